"""One run, worked on by one worker: replay the journal, do what is to be done, journal it, hand it on."""

from __future__ import annotations

import logging
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sqlalchemy import Connection

from metrikon.core.flows.fold import Again, Effect, Entry, Perform, State, advance, in_order, todo
from metrikon.core.flows.keys import key_of
from metrikon.core.flows.kinds import OUTWARD
from metrikon.core.values.exact import as_kept
from metrikon.destinations.build import former_place, place
from metrikon.engine.house import EngineHouse
from metrikon.engine.results import packed, unpacked
from metrikon.engine.states import Kept, States
from metrikon.ports.step import Call, Outcome, StepFailed
from metrikon.steps import RUNNERS
from metrikon.store import deliveries, items, journal, runs
from metrikon.store.database import Database, StoreFailed
from metrikon.store.journal import Written
from metrikon.store.runs import FIRST, Claim, LeaseLost

log = logging.getLogger("metrikon.engine")


@dataclass(frozen=True)
class Bench:
    """What a worker works with."""

    database: Database
    house: EngineHouse
    home: Path
    stopping: Callable[[], bool]
    states: States = field(default_factory=States)


class Work:
    """One claimed run."""

    def __init__(self, bench: Bench, claim: Claim) -> None:
        self.bench = bench
        self.claim = claim
        self.clock = bench.house.clock
        self.pending: list[Written] = []
        self.known = 0  # journal entries that this worker has seen or written
        self.foreign = False  # others (deliveries, answers) added entries meanwhile
        self.wakes: list[int] = []
        self.asks = ""  # what a person must look at
        self.today = ""
        self.file_name = ""

    def go(self) -> None:
        """Work until the run waits, parks or settles. Nothing is raised: the run tells what happened."""
        try:
            self._go()
        except LeaseLost:
            log.info("run %s passed on to another worker", self.claim.run_id)
        except StoreFailed as error:
            log.error("run %s: %s", self.claim.run_id, error)
        except Exception:
            log.exception("run %s: an error in the engine", self.claim.run_id)
            self._park_for_error()

    def _go(self) -> None:
        state, effects = self._replayed()
        queue: deque[Effect] = deque(effects)
        while queue and not self.bench.stopping():
            effect = queue.popleft()
            if isinstance(effect, Perform):
                if effect.step.kind == "write":
                    writes = [effect, *(e for e in queue if isinstance(e, Perform) and e.step.kind == "write")]
                    queue = deque(e for e in queue if not (isinstance(e, Perform) and e.step.kind == "write"))
                    entries = self._write([w for w in writes if not w.begun])
                else:
                    entries = self._perform(effect)
                for entry in entries:
                    state, more = advance(state, entry)
                    queue.extend(more)
            elif isinstance(effect, Again):
                self.wakes.append(effect.due)
        self._hand_on(state, stopped_early=bool(queue))

    def _replayed(self) -> tuple[State, tuple[Effect, ...]]:
        kept = self.bench.states.take(self.claim.run_id)
        if kept is None:
            state = State(self.bench.house.catalog.flow(self.claim.flow, self.claim.flow_version))
        else:
            state, self.known, self.today, self.file_name = kept.state, kept.entries, kept.today, kept.file_name
        with self.bench.database.reading() as connection:
            entries = journal.load(connection, self.claim.run_id, after=self.known) if self.claim.epoch > FIRST else []
            if not entries and not self.known:
                return self._started(connection, state)
        for number, entry in entries:
            whole = unpacked(entry, self.bench.house.files)
            state, _ = advance(state, whole)
            self.known = number
            if entry.event == "started":
                self.today = str(whole.data["run"]["today"])
                self.file_name = str(whole.data["item"]["name"])
        return state, todo(state, self.clock.now())

    def _started(self, connection: Connection, state: State) -> tuple[State, tuple[Effect, ...]]:
        item = items.get(connection, self.claim.item_id)
        now = self.clock.now()
        self.today = datetime.fromtimestamp(now / 1000, UTC).date().isoformat()
        self.file_name = str(item["name"])
        received = datetime.fromtimestamp(item["received_at"] / 1000, UTC).isoformat(timespec="seconds")
        data = {
            "item": {"id": item["id"], "file": item["sha256"], "name": item["name"], "intake": item["intake"], "received": received},
            "run": {"id": self.claim.run_id, "today": self.today, "flow": f"{self.claim.flow} {self.claim.flow_version}"},
        }
        written = Written("started", "", data, at=now)
        self.pending.append(written)
        return advance(state, written.entry)

    def _perform(self, effect: Perform) -> list[Entry]:
        """Do one step; the entries to fold."""
        kind = effect.step.kind
        if kind in OUTWARD and not effect.begun:
            self._commit([Written("begun", effect.path, {"attempt": effect.attempt}, kind, self.clock.now())])
        call = Call(
            self.claim.run_id,
            self.claim.item_id,
            self.claim.flow,
            effect.path,
            effect.parameters,
            effect.attempt,
            self.today,
            self.file_name,
        )
        start = self.clock.now()
        try:
            outcome = RUNNERS[kind](call, self.bench.house)
            return [self._keep(effect, outcome, start)]
        except StepFailed as error:
            data = {"message": error.message, "again": error.again, "wait": error.wait, "refused": error.refused, "attempt": effect.attempt}
            return [self._failed(effect, data, start)]
        except (LeaseLost, StoreFailed):
            raise
        except Exception as error:
            log.exception("run %s, step %s", self.claim.run_id, effect.path)
            message = f"The step {effect.path} met an error of the program ({type(error).__name__}: {error}). It is in the service's log."
            return [self._failed(effect, {"message": message, "again": False, "attempt": effect.attempt}, start)]

    def _failed(self, effect: Perform, data: dict[str, Any], start: int) -> Entry:
        now = self.clock.now()
        written = Written("failed", effect.path, {**data, **self._from(now)}, effect.step.kind, now, now - start)
        self._commit([written])
        return written.entry

    def _from(self, now: int) -> dict[str, Any]:
        """From when a step waits, and how much more or less than said, so that not all come back at once."""
        return {"at": now, "jitter": round(0.85 + 0.3 * self.clock.chance(), 3)}

    def _keep(self, effect: Perform, outcome: Outcome, start: int) -> Entry:
        """Journal what a step gave, in one commit with what it stores."""
        kind = effect.step.kind
        if outcome.commit is None:
            now = self.clock.now()
            result = as_kept(outcome.result)
            written = Written("done", effect.path, packed({"result": result}, self.bench.house.files), kind, now, now - start)
            self.pending.append(written)
            return Entry("done", effect.path, {"result": result})
        make = outcome.commit
        entries, self.pending = self.pending, []

        def job(connection: Connection) -> tuple[int, dict[str, Any]]:
            now = self.clock.now()
            result = make(connection, now)
            event = "asked" if result.pop("asks", False) else "done"
            data = packed({"result": result}, self.bench.house.files)
            written = Written(event, effect.path, data, kind, now, now - start)
            total = journal.append(connection, self.claim.run_id, [*entries, written], self.claim)
            if outcome.usage:
                usage = outcome.usage
                runs.spent(connection, self.claim.run_id, usage.calls, usage.input_tokens, usage.output_tokens, usage.cost)
            return total, {"event": event, "result": result}

        total, made = self.bench.database.write(job)
        self._seen(total, len(entries) + 1)
        if made["event"] == "asked":
            self.asks = next((str(each["message"]) for each in made["result"].get("findings", ()) if each["level"] == "stop"), "")
        return Entry(made["event"], effect.path, {"result": as_kept(made["result"])})

    def _write(self, effects: list[Perform]) -> list[Entry]:
        """Enter rows to be written, all in one commit. Those written before are done at once."""
        if not effects:
            return []
        flow = self.bench.house.catalog.flow(self.claim.flow, self.claim.flow_version)
        named = {str(effect.parameters["to"]) for effect in effects}
        places = {name: (place(flow.destinations[name], self.bench.home), former_place(flow.destinations[name], self.bench.home)) for name in named}
        wanted = [self._wanted(effect, *places[str(effect.parameters["to"])]) for effect in effects]
        entries, self.pending = self.pending, []
        now = self.clock.now()

        def job(connection: Connection) -> tuple[int, list[Written]]:
            standing = deliveries.begin(connection, self.claim.run_id, self.claim.flow, self.claim.flow_version, wanted, now)
            made = []
            for each in wanted:
                stands = standing[each.path]
                made.append(Written("begun", each.path, {"key": each.key}, "write", now))
                if stands.state == "done":
                    result = {"key": each.key, "result": "there already", "place": stands.receipt or "", "by": stands.run_id}
                    made.append(Written("done", each.path, {"result": result}, "write", now, 0))
            return journal.append(connection, self.claim.run_id, [*entries, *made], self.claim), made

        total, made = self.bench.database.write(job)
        self._seen(total, len(entries) + len(made))
        return [each.entry for each in made]

    def _wanted(self, effect: Perform, destination: str, former: str) -> deliveries.Wanted:
        values = effect.parameters
        parts = tuple(values["key"])
        key = f"{destination}|{key_of(parts, bool(values.get('ignore_case')))}"
        to, columns = str(values["to"]), dict(values["columns"])
        return deliveries.Wanted(key, parts, destination, former, to, effect.path, columns, effect.step.retry.attempts)

    def _commit(self, entries: list[Written]) -> None:
        """Journal what is pending and these entries."""
        every, self.pending = [*self.pending, *entries], []

        def job(connection: Connection) -> int:
            return journal.append(connection, self.claim.run_id, every, self.claim)

        self._seen(self.bench.database.write(job), len(every))

    def _seen(self, total: int, own: int) -> None:
        self.known += own
        if total != self.known:
            self.foreign = True

    def _hand_on(self, state: State, *, stopped_early: bool) -> None:
        """Put the run where it now stands, and let it go."""
        entries, self.pending = self.pending, []

        def job(connection: Connection) -> bool:
            total = journal.append(connection, self.claim.run_id, entries, self.claim)
            foreign = self.foreign or total != self.known + len(entries)
            now = self.clock.now()
            where, reason, wake_at = self._where(state, now)
            if where not in runs.SETTLED and (foreign or stopped_early):
                where, wake_at = "ready", now
            runs.move(connection, self.claim.run_id, where, now, reason, wake_at)
            return where in runs.SETTLED or foreign

        if not self.bench.database.write(job):
            self.bench.states.keep(self.claim.run_id, Kept(state, self.known + len(entries), self.today, self.file_name))

    def _where(self, state: State, now: int) -> tuple[str, str, int | None]:
        if state.outcome is not None:
            return state.outcome, state.reason, None
        statuses = {step.status for step in state.open.values()}
        if "asked" in statuses:
            return "review", self.asks or "A person must look at the record.", min(self.wakes, default=None)
        if "waiting" in statuses or "begun" in statuses or "ready" in statuses:
            reason = "Rows are being written." if "begun" in statuses else "A step is tried again."
            return "waiting", reason, min(self.wakes, default=None if "begun" in statuses else now)
        reasons = [step.reason for _, step in in_order(state) if step.reason]
        return "parked", reasons[0] if reasons else "It cannot go on by itself.", None

    def _park_for_error(self) -> None:
        def job(connection: Connection) -> None:
            runs.hold_lease(connection, self.claim)
            reason = "An error of the program stopped this run; it is in the service's log. Continue the run once it is mended."
            runs.move(connection, self.claim.run_id, "parked", self.clock.now(), reason)

        try:
            self.bench.database.write(job)
        except (LeaseLost, StoreFailed) as error:
            log.error("run %s could not be parked: %s", self.claim.run_id, error)


__all__ = ["Bench", "Work"]
