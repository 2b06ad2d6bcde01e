"""One run, worked on by one worker: replay the journal, do what is to be done, journal it, hand it on."""

from __future__ import annotations

import logging
import math
import time
from collections import deque
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, tzinfo
from typing import Any

from msgspec.structs import replace
from sqlalchemy import Connection

from metrikon.core.flows.failing import Failure
from metrikon.core.flows.fold import CannotGoOn, advance, replayed, there, todo
from metrikon.core.flows.state import Effect, Entry, Late, Listen, Perform, State, Wake
from metrikon.core.flows.walk import FLOW_FAILED
from metrikon.core.values.exact import as_kept, dumps, loads
from metrikon.engine import failing, sending, standing
from metrikon.engine.journaling import Journaling
from metrikon.engine.results import LARGEST, MADE, packed, unpacked
from metrikon.engine.states import Kept, States
from metrikon.engine.using import end_used, told_user
from metrikon.engine.workshop import EngineWorkshop
from metrikon.ports.behalf import BEHALF, RUNS, UNTIL, party
from metrikon.ports.machine import LOOK, short_of
from metrikon.ports.step import Call, GatheredRunner, Made, Outcome, Runner, StepFailed
from metrikon.store import events, failures, items, journal, leases, outgoing, questions, runs, wanting
from metrikon.store.database import Database, StoreFailed
from metrikon.store.journal import Written
from metrikon.store.leases import Claim, LeaseLost
from metrikon.store.outgoing import Out

log = logging.getLogger("metrikon.engine")


@dataclass
class Rest:
    """No run is begun before a moment (seconds, monotonic): the machine is short of something."""

    until: float = 0.0


@dataclass(frozen=True)
class Bench:
    """What a worker works with."""

    database: Database
    workshop: EngineWorkshop
    runners: Mapping[str, Any]  # of each kind of step that is not control: a `Runner`, or a `GatheredRunner` for kinds that are gathered
    stopping: Callable[[], bool]
    states: States = field(default_factory=States)
    rest: Rest = field(default_factory=Rest)
    barred: Callable[[str, int], str] = lambda flow, version: ""  # why a version of a flow may not run, or nothing
    link: Callable[[str], str] = lambda item_id: f"/arrivals/{item_id}"  # the address of an item for people


class Work:
    """One claimed run."""

    def __init__(self, bench: Bench, claim: Claim) -> None:
        self.bench = bench
        self.claim = claim
        self.clock = bench.workshop.clock
        self.journal = Journaling(bench.database, claim)
        self.asks = ""  # what a person must look at
        self.today = ""
        self.file_name = ""
        self.versions: Mapping[str, int] = {}
        self.zone: tzinfo = UTC
        self.corrects = False
        self.send_again = False
        self.anew = 0

    def go(self) -> None:
        """Work until the run waits, parks or settles. Nothing is raised: the run tells what happened."""
        BEHALF.set(party(self.claim.flow, behind=self.claim.behind))
        RUNS.set((self.claim.run_id,))
        try:
            if barred := self.bench.barred(self.claim.flow, self.claim.flow_version):
                self._park(barred)
            else:
                self._go()
        except LeaseLost:
            log.info("run %s passed on to another worker", self.claim.run_id)
        except StoreFailed as error:
            log.error("run %s: %s", self.claim.run_id, error)
        except Exception:
            log.exception("run %s: an error in the engine", self.claim.run_id)
            self._park("An error of the program stopped this run; it is in the service's log. Continue the run once it is mended.")

    def _go(self) -> None:
        state, effects = self._replayed()
        queue: deque[Effect] = deque(effects)
        while queue and not self.bench.stopping():
            effect = queue.popleft()
            if isinstance(effect, Perform):
                kind = effect.step.kind
                if kind.awaited and effect.begun:
                    continue
                if kind.gathered:
                    alike = [effect, *(each for each in queue if isinstance(each, Perform) and each.step.kind is kind)]
                    queue = deque(each for each in queue if not (isinstance(each, Perform) and each.step.kind is kind))
                    entries = self._perform_all([each for each in alike if not each.begun])
                else:
                    entries = self._perform(effect, state)
                for entry in entries:
                    state, more = advance(state, entry)
                    queue.extend(more)
            elif isinstance(effect, Wake | Late | Listen):
                for entry in self._noted(effect):
                    state, more = advance(state, entry)
                    queue.extend(more)
        self._hand_on(state, stopped_early=bool(queue))

    def _replayed(self) -> tuple[State, tuple[Effect, ...]]:
        kept = self.bench.states.take(self.claim.run_id)
        if kept is None:
            state = State(self.bench.workshop.catalog.flow(self.claim.flow, self.claim.flow_version))
        else:
            state, self.journal.known, self.today, self.file_name, self.versions = kept.state, kept.entries, kept.today, kept.file_name, kept.versions
            self.send_again, self.anew = kept.send_again, kept.anew
        self.zone = state.flow.zone
        with self.bench.database.reading() as connection:
            entries = journal.to_replay(connection, self.claim.run_id, after=self.journal.known) if self.claim.epoch > runs.FIRST else []
            if not entries and not self.journal.known:
                return self._started(connection, state)
        whole_ones = [(number, unpacked(entry, self.bench.workshop.files)) for number, entry in entries]
        state = replayed(state, (entry for _, entry in whole_ones))
        self.corrects = bool(state.corrected)
        for number, whole in whole_ones:
            self.journal.known = number
            if whole.event == "started":
                self.send_again, self.anew = bool(whole.data.get("send_again")), int(whole.data.get("anew", 0))
                self.today = str(whole.data["run"]["today"])
                self.file_name = str(whole.data["item"]["name"])
                self.versions = {str(name): int(version) for name, version in whole.data.get("versions", {}).items()}
        return state, todo(state, self.clock.now())

    def _started(self, connection: Connection, state: State) -> tuple[State, tuple[Effect, ...]]:
        item = items.get(connection, self.claim.item_id)
        now = self.clock.now()
        self.today = datetime.fromtimestamp(now / 1000, self.zone).date().isoformat()
        self.versions = self.bench.workshop.catalog.versions_in(state.flow)
        self.file_name = str(item["name"])
        received = datetime.fromtimestamp(item["received_at"] / 1000, UTC).isoformat(timespec="seconds")
        data: dict[str, Any] = {
            "item": {
                "id": item["id"],
                "file": item["sha256"],
                "name": item["name"],
                "intake": item["intake"],
                "received": received,
                "data": loads(item["data"]) if item["data"] is not None else None,
            },
            "run": {
                "id": self.claim.run_id,
                "today": self.today,
                "flow": f"{self.claim.flow} {self.claim.flow_version}",
                "link": self.bench.link(self.claim.item_id),
            },
            "versions": self.versions,
        }
        if self.claim.given:
            given = loads(runs.given(connection, self.claim.run_id) or b"{}")
            data |= {"given": given} if self.claim.used_by is not None else given
        if self.claim.used_by is not None:
            data |= self._as_its_user(connection, self.claim.used_by)
        self.send_again, self.anew, self.corrects = bool(data.get("send_again")), int(data.get("anew", 0)), bool(data.get("corrected"))
        written = Written("started", "", data, at=now)
        self.journal.later(written)
        return advance(state, written.entry)

    def _as_its_user(self, connection: Connection, user: str) -> dict[str, Any]:
        """What was said of the run that uses this one when it was run again: it holds of what this one asks and sends out, too."""
        [begun] = journal.of_event(connection, user, "started")
        whole = unpacked(begun, self.bench.workshop.files)
        return {name: whole.data[name] for name in ("send_again", "anew") if whole.data.get(name)}

    def _noted(self, effect: Wake | Late | Listen) -> list[Entry]:
        """Journal that a moment has come, or that a time is over; enter what is listened for, and take what came before that."""
        path, now = effect.path, self.clock.now()

        def make(connection: Connection) -> tuple[list[Written], list[Written]]:
            if isinstance(effect, Listen):
                data = events.listen(connection, self.claim.run_id, path, self.claim.flow, effect.key)
                found = [Written("came", path, data, at=now)] if data is not None else []
            else:
                events.unheard(connection, self.claim.run_id, path)
                questions.close(connection, self.claim.run_id, path, now) if isinstance(effect, Late) else None
                found = [Written("late" if isinstance(effect, Late) else "woken", path, {}, at=now)]
            return found, found

        return [each.entry for each in self.journal.commit(make)]

    def _perform(self, effect: Perform, state: State) -> list[Entry]:
        """Do one step; the entries to fold."""
        start = self.clock.now()
        try:
            gave = self._sends(effect)
            if gave.result is not None:
                return [self._keep(effect, Outcome(dict(gave.result)), start)]
            out = gave.out
            if effect.step.kind.outward and not effect.begun:
                self._begun(effect, out)
        except StepFailed as error:
            return [self._failed(effect, error, start)]
        runner: Runner = self.bench.runners[effect.step.kind.name]
        call = self._call(effect)
        UNTIL.set(math.inf if call.seconds is None else time.monotonic() + call.seconds)
        try:
            outcome = runner(call, self.bench.workshop)
            if effect.step.common.until is not None and not self._there(effect, state, outcome):
                return [self._looked(effect, outcome.result, start)]
            return [self._keep(effect, outcome, start, out)]
        except (LeaseLost, StoreFailed):
            raise
        except Exception as error:
            return [self._failed(effect, error, start, out)]
        finally:
            UNTIL.set(math.inf)

    def _there(self, effect: Perform, state: State, outcome: Outcome) -> bool:
        """Whether what a step is done again for is there. Raises `StepFailed` where the condition cannot be worked out."""
        try:
            return there(state, effect.path, as_kept(outcome.result), self.clock.now())
        except CannotGoOn as error:
            raise StepFailed(str(error)) from error

    def _looked(self, effect: Perform, gave: Mapping[str, Any], start: int) -> Entry:
        """Journal that a step was done, and is done again. Of looks before this one nothing is kept: it counts them, and tells what it found."""
        data: dict[str, Any] = {"look": effect.looks + 1, "at": self.clock.now(), "jitter": self._jitter()}
        if len(dumps(gave)) <= LARGEST:
            data["result"] = as_kept(gave)
        written = self._written(effect, "looked", data, self.clock.now() - start)

        def make(connection: Connection) -> tuple[None, list[Written]]:
            journal.forget_looks(connection, self.claim.run_id, effect.path)
            return None, [written]

        self.journal.commit(make)
        return written.entry

    def _jitter(self) -> float:
        """A wait is a little more or less than said, so that not all come back at once."""
        return round(0.85 + 0.3 * self.clock.chance(), 3)

    def _sends(self, effect: Perform) -> sending.Gave:
        """What a step sends out, and what it gave when that went out before. Raises `StepFailed` where a person must say what is to be done."""
        if effect.step.kind.sends is None:
            return sending.Gave()
        with self.bench.database.reading() as connection:
            out = sending.out_of(connection, effect, self.claim)
            if out is None or effect.begun:
                return sending.Gave(out)
            return sending.before(connection, out, sending.Wish(self.corrects, self.send_again), renew=effect.renew)

    def _begun(self, effect: Perform, out: Out | None) -> None:
        """Journal that a step is begun whose effect leaves the house, and that something is handed over by it."""

        def make(connection: Connection) -> tuple[None, list[Written]]:
            if out is not None:
                outgoing.begin(connection, out, self.clock.now())
            return None, [self._written(effect, "begun", {"attempt": effect.attempt})]

        try:
            self.journal.commit(make)
        except outgoing.SentNow as error:
            raise sending.sent_now(str(error)) from error

    def _perform_all(self, effects: list[Perform]) -> list[Entry]:
        """Do steps of a kind that is gathered, all in one commit; the entries to fold."""
        if not effects:
            return []
        start = self.clock.now()
        runner: GatheredRunner = self.bench.runners[effects[0].step.kind.name]
        try:
            make = runner([self._call(each) for each in effects], self.bench.workshop)
        except (LeaseLost, StoreFailed):
            raise
        except Exception as error:
            return [self._failed(each, error, start) for each in effects]

        def entered(connection: Connection) -> tuple[list[Written], list[Written]]:
            made = make(connection, self.clock.now())
            written = [self._written(effect, each.event, each.data) for effect, its in zip(effects, made, strict=True) for each in its]
            return written, written

        return [each.entry for each in self.journal.commit(entered)]

    def _call(self, effect: Perform) -> Call:
        claim = self.claim
        return Call(
            run_id=claim.run_id,
            item_id=claim.item_id,
            flow=claim.flow,
            flow_version=claim.flow_version,
            path=effect.path,
            parameters=effect.parameters,
            attempt=effect.attempt,
            most_attempts=effect.step.common.retry.tries("busy"),
            today=self.today,
            file_name=self.file_name,
            said=effect.step.parameters,
            scope=effect.scope,
            moment=datetime.fromtimestamp(self.clock.now() / 1000, self.zone),
            cut_off=effect.begun,
            corrects=self.corrects,
            renew=effect.renew,
            versions=self.versions,
            anew=self.anew,
            seconds=max(0.0, (effect.late - self.clock.now()) / 1000) if effect.late else None,
        )

    def _written(self, effect: Perform, event: str, data: Mapping[str, Any], took: int | None = None) -> Written:
        kind = effect.step.kind
        return Written(event, effect.path, data, kind.name, self.clock.now(), took, kind.version)

    def _failed(self, effect: Perform, error: Exception, start: int, out: Out | None = None) -> Entry:
        """Journal that a step did not come to its end."""
        now = self.clock.now()
        data: dict[str, Any] = {"attempt": effect.attempt, "at": now, "jitter": self._jitter(), "again": False}
        if isinstance(error, StepFailed):
            data |= {"message": error.message, "again": error.again, "wait": error.wait, "refused": error.refused}
            data |= {"cause": error.cause} if error.cause else {}
            data |= {"turn": True} if error.turn else {}
            data |= {"seen": list(error.seen), MADE: [each["file"] for each in error.seen]} if error.seen else {}
            data |= {"unsure": error.unsure, "again": False, "sent": as_kept(dict(effect.parameters))} if error.unsure is not None else {}
        if isinstance(error, sending.SentOtherwise):
            data |= {"otherwise": dict(error.result), "again": False, "sent": as_kept(dict(effect.parameters))}
        if not isinstance(error, StepFailed) and not short_of(error):
            log.error("run %s, step %s", self.claim.run_id, effect.path, exc_info=error)
            data["message"] = f"The step {effect.path} met an error of the program ({type(error).__name__}: {error}). It is in the service's log."
        if short := short_of(error):
            self.bench.rest.until = time.monotonic() + LOOK
            log.warning("run %s, step %s: %s", self.claim.run_id, effect.path, short)
            data |= {"message": f"{short}. It goes on by itself when that is over.", "again": True, "wait": LOOK, "turn": True, "cause": "machine"}
        written = self._written(effect, "failed", data, now - start)

        def make(connection: Connection) -> tuple[None, list[Written]]:
            if out is not None:
                outgoing.ended(
                    connection, out, sending.failed_by(out, unsure=data.get("unsure") is not None), now, error=str(data.get("message", ""))
                )
            elif data.get("unsure") is not None and effect.step.kind.sends is not None and (mine := sending.out_of(connection, effect, self.claim)):
                outgoing.taken_over(connection, mine)
            return None, [written]

        self.journal.commit(make)
        return written.entry

    def _keep(self, effect: Perform, outcome: Outcome, start: int, out: Out | None = None) -> Entry:
        """Journal what a step gave, in one commit with what it stores."""
        if out is not None:
            outcome = sending.noting(outcome, out)
        if outcome.commit is None:
            made = Made("done", {"result": as_kept(outcome.result)})
            data = packed(made.data, self.bench.workshop.files)
            data = {**data, MADE: list(outcome.made)} if outcome.made else data
            written = self._written(effect, made.event, data, self.clock.now() - start)
            self.journal.later(written)
            return replace(written.entry, data=made.data)
        commit = outcome.commit

        def kept(connection: Connection) -> tuple[tuple[Made, Written], list[Written]]:
            now = self.clock.now()
            made = commit(connection, now)
            data = packed(made.data, self.bench.workshop.files)
            data = {**data, MADE: list(outcome.made)} if outcome.made else data
            written = self._written(effect, made.event, data, now - start)
            if outcome.usage:
                usage = outcome.usage
                runs.spent(connection, self.claim.run_id, usage.calls, usage.input_tokens, usage.output_tokens, usage.cost)
            return (made, written), [written]

        made, written = self.journal.commit(kept)
        if made.event == "asked":
            self.asks = made.reason
        return replace(written.entry, data=as_kept(made.data))

    def _hand_on(self, state: State, *, stopped_early: bool) -> None:
        """Put the run where it now stands, and let it go."""

        def finish(connection: Connection, foreign: bool) -> bool:
            now = self.clock.now()
            where, reason, wake_at = standing.where(state, now, self.asks)
            if where not in runs.SETTLED and (foreign or stopped_early):
                where, wake_at = "ready", now
            if where == "parked" and (told := failing.told(connection, state, self.claim, self.file_name, now)):
                journal.append(connection, self.claim.run_id, [told])
                where, reason, wake_at, foreign = "ready", "", now, True
            elif self.claim.epoch > runs.FIRST and where != "parked" and FLOW_FAILED not in state.frames:
                failures.over(connection, self.claim.run_id, now)
            runs.move(connection, self.claim.run_id, where, now, reason, wake_at)
            if where == "done" and state.corrected:
                steps = {step.name for step in state.flow.every_step}
                wanting.drop_surplus(connection, self.claim.run_id, self.claim.item_id, steps)
            if where in runs.SETTLED and state.flow.leaves:
                questions.close(connection, self.claim.run_id, None, now)
                events.unheard(connection, self.claim.run_id)
                end_used(connection, self.claim.run_id, now)
            if where in runs.SETTLED and self.claim.used_by is not None and self.claim.used_at is not None:
                told_user(connection, self.claim.used_by, self.claim.used_at, self.claim.run_id, where, reason, standing.result_of(state), now)
            return where in runs.SETTLED or foreign

        if not self.journal.last(finish):
            self.bench.states.keep(
                self.claim.run_id, Kept(state, self.journal.known, self.today, self.file_name, self.versions, self.send_again, self.anew)
            )

    def _park(self, reason: str) -> None:
        """Park the run as it stands, for a reason that is none of its steps."""

        def job(connection: Connection) -> None:
            leases.hold_lease(connection, self.claim)
            now = self.clock.now()
            runs.move(connection, self.claim.run_id, "parked", now, reason)
            failures.note(connection, Failure(self.claim.flow, self.claim.run_id, self.claim.item_id, "", reason, item_name=self.file_name), now)

        try:
            self.bench.database.write(job)
        except (LeaseLost, StoreFailed) as error:
            log.error("run %s could not be parked: %s", self.claim.run_id, error)
