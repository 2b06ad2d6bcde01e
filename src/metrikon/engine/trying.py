"""Trying a flow on a file: it is read, extracted and decided as in earnest; what would leave the house is told, and nothing is kept or sent."""

from __future__ import annotations

import hashlib
import tempfile
from collections import deque
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sqlalchemy import Connection

from metrikon.core.flows.alike import KeysAlike
from metrikon.core.flows.fold import CannotGoOn, advance, there
from metrikon.core.flows.keys import readable
from metrikon.core.flows.model import Flow
from metrikon.core.flows.state import Effect, Entry, Park, Perform, State
from metrikon.core.flows.telling import sentence
from metrikon.core.values.exact import as_kept, loads
from metrikon.engine.looking import Value, values_in
from metrikon.engine.workshop import EngineWorkshop
from metrikon.ports.step import Call, GatheredRunner, Made, Runner, StepFailed
from metrikon.store import items
from metrikon.store.database import Database

MOST_STEPS = 2000


@dataclass(frozen=True)
class Tried:
    """One step instance: what it gave, or what it would do. `would`: words for people, empty for a step that was done."""

    path: str
    kind: str
    sentence: str
    result: Any = None
    would: str = ""
    values: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class TriedRun:
    """What became of a flow that was tried: its steps in order, where it stands, and every value in scope with its path."""

    steps: Sequence[Tried]
    stands: str  # done, stopped, refused, parked, asks, waits, "tried as far as wanted"
    reason: str
    values: Sequence[Value]
    told: Sequence[str] = ()  # what is worth a word, such as keys that are the same for papers that differ


class _UndoneError(Exception):
    """What a step would keep is not kept: raised within the transaction, so that it is undone."""

    def __init__(self, made: Made) -> None:
        super().__init__("undone")
        self.made = made


class Trying:
    """Tries flows."""

    def __init__(self, database: Database, workshop: EngineWorkshop, runners: Mapping[str, Any]) -> None:
        self._database = database
        self._workshop = workshop
        self._runners = runners
        self.keys = KeysAlike()

    def run(self, flow: Flow, sha256: str, name: str, until: str = "", *, recorded: bool = False, data: bytes | None = None) -> TriedRun:
        """Try a flow on a kept file, up to and with a step if one is named. `recorded`: models are not asked; answers that they gave before are used.

        `data`: what its intake knew of it, as JSON.
        """
        made = _Try(self, flow, sha256, name, until, recorded, data)
        try:
            return made.go()
        finally:
            made.workshop.close()


class _Workshop:
    """The workshop as it is, but it remembers the models that were asked, so that what they cost is kept."""

    def __init__(self, workshop: EngineWorkshop, flow: Flow, recorded: bool) -> None:
        self._workshop = workshop
        self._recorded = recorded
        self._flow = flow
        self.asked: list[Any] = []
        self._made: dict[str, bytes] = {}  # files that steps make: they are not kept
        self._folder: tempfile.TemporaryDirectory[str] | None = None  # where they lie while another step reads them

    def keep(self, data: bytes) -> str:
        sha256 = hashlib.sha256(data).hexdigest()
        self._made[sha256] = data
        return sha256

    def file(self, sha256: str) -> bytes:
        return self._made[sha256] if sha256 in self._made else self._workshop.file(sha256)

    def place_of(self, sha256: str) -> Path:
        if sha256 not in self._made:
            return self._workshop.place_of(sha256)
        if self._folder is None:
            self._folder = tempfile.TemporaryDirectory(prefix="metrikon-")
        place = Path(self._folder.name) / sha256
        place.write_bytes(self._made[sha256])
        return place

    def close(self) -> None:
        """What steps made is there no longer."""
        if self._folder is not None:
            self._folder.cleanup()

    def __getattr__(self, name: str) -> Any:
        return getattr(self._workshop, name)

    def model(self, name: str | None, call: Call) -> Any:
        found = self._workshop.model(name, call)
        found.recorded = self._recorded
        self.asked.append(found)
        return found

    def places(self, flow: str, version: int, name: str) -> tuple[str, str]:
        return self._workshop.places_of(self._flow.destinations[name])

    def destination(self, flow: str, version: int, name: str) -> Any:
        said = self._flow.destinations.get(name)
        return self._workshop.destination_of(said) if said is not None else None


class _Try:
    def __init__(self, trying: Trying, flow: Flow, sha256: str, name: str, until: str, recorded: bool, data: bytes | None) -> None:
        self.data = data
        self.flow, self.sha256, self.name, self.until = flow, sha256, name, until
        self.database, self.runners = trying._database, trying._runners
        self.workshop = _Workshop(trying._workshop, flow, recorded)
        self.clock = trying._workshop.clock
        with self.database.reading() as connection:
            found = items.with_content(connection, flow.name, sha256)
        self.known = found is not None  # an item that came in before is itself, and no repeat of itself
        self.run_id, self.item_id = self.clock.new_id(), found or self.clock.new_id()
        self.today = datetime.fromtimestamp(self.clock.now() / 1000, flow.zone).date().isoformat()
        self.versions = trying._workshop.catalog.versions_in(flow)
        self.steps: list[Tried] = []
        self.keys, self.made = trying.keys, dict[tuple[str, str], set[str]]()  # of steps, by name and by how a key is made

    def go(self) -> TriedRun:
        state, stands, reason = State(self.flow), "", ""
        state, effects = advance(state, Entry("started", "", self._begins(), self.clock.now()))
        queue: deque[Effect] = deque(effects)
        while queue and not stands:
            effect = queue.popleft()
            if isinstance(effect, Park):
                stands, reason = "parked", effect.reason
            elif isinstance(effect, Perform):
                entry, stands, reason = self._step(effect)
                if entry is not None and entry.event == "done" and (yet := _not_yet(state, effect, entry)):
                    entry, stands, reason = None, "waits", yet
                if entry is not None:
                    state, more = advance(state, entry)
                    queue.extend(more)
                if effect.step.name == self.until:
                    stands = stands or "tried as far as wanted"
            if len(self.steps) >= MOST_STEPS:
                stands, reason = "tried as far as wanted", f"More than {MOST_STEPS} steps are not tried."
        if state.outcome is not None:
            stands, reason = state.outcome, state.reason
        elif not stands:
            waiting = next((each.reason for each in state.open.values() if each.status == "waiting"), "")
            stands, reason = "waits", waiting or "It waits."
        for model in self.workshop.asked:
            model.keep()
        return TriedRun(self.steps, stands, reason, values_in(state), list(self._alike()))

    def _alike(self) -> Iterator[str]:
        """Steps whose key was the same for papers that differ."""
        for (name, made_of), keys in self.made.items():
            if told := self.keys.told(self.flow.name, name, made_of, self.sha256, keys):
                yield told

    def _known_by(self, effect: Perform) -> None:
        """Remember the key of what a step would make."""
        known_by = effect.step.kind.known_by
        key = known_by(effect.parameters) if known_by is not None else None
        if known_by is not None and key is not None:
            self.made.setdefault((effect.step.name, str(known_by(effect.step.plain))), set()).add(readable(key))

    def _begins(self) -> dict[str, Any]:
        received = datetime.fromtimestamp(self.clock.now() / 1000, UTC).isoformat(timespec="seconds")
        item: dict[str, Any] = {"id": self.item_id, "file": self.sha256, "name": self.name, "intake": "sample", "received": received}
        item["data"] = loads(self.data) if self.data is not None else None
        run = {"id": self.run_id, "today": self.today, "flow": f"{self.flow.name} (tried)", "link": f"/arrivals/{self.item_id}"}
        return as_kept({"item": item, "run": run})  # type: ignore[no-any-return]

    def _step(self, effect: Perform) -> tuple[Entry | None, str, str]:
        """Do a step, or tell what it would do; the entry to fold, and where the trial stands if it ends here."""
        kind, now = effect.step.kind, self.clock.now()
        if kind.would is not None and not kind.gathered:  # what it does cannot be undone
            self.steps.append(Tried(effect.path, kind.name, sentence(effect.step), would=_would(effect), values=effect.parameters))
            return Entry("done", effect.path, {"result": None}, now), "", ""
        try:
            made = self._made(effect)
        except StepFailed as error:
            self.steps.append(Tried(effect.path, kind.name, sentence(effect.step), would=f"It fails: {error.message}"))
            if effect.step.common.on_failure is None:
                return None, "refused" if error.refused else "parked", error.message
            return Entry("failed", effect.path, {"message": error.message, "again": False, "refused": error.refused, "at": now}, now), "", ""
        self._known_by(effect)
        told = sentence(effect.step)
        if made.event == "asked":
            self.steps.append(Tried(effect.path, kind.name, told, made.data.get("result"), "A person would be asked.", effect.parameters))
            return None, "asks", made.reason
        if made.event == "begun":
            self.steps.append(Tried(effect.path, kind.name, told, would=_would(effect), values=effect.parameters))
            result = {"result": "would be written", "place": "", "key": readable(effect.parameters["key"])} if kind.gathered else None
            return Entry("done", effect.path, {"result": result}, now), "", ""
        result = as_kept(made.data.get("result"))
        would = "It is there already; nothing would be written." if kind.gathered else ""
        self.steps.append(Tried(effect.path, kind.name, told, result, would, effect.parameters if kind.gathered else {}))
        return Entry("done", effect.path, {"result": result}, now), "", ""

    def _made(self, effect: Perform) -> Made:
        call = Call(
            run_id=self.run_id,
            item_id=self.item_id,
            flow=self.flow.name,
            flow_version=0,
            path=effect.path,
            parameters=effect.parameters,
            attempt=1,
            most_attempts=1,
            today=self.today,
            file_name=self.name,
            said=effect.step.parameters,
            scope=effect.scope,
            moment=datetime.fromtimestamp(self.clock.now() / 1000, self.flow.zone),
            versions=self.versions,
        )
        workshop: Any = self.workshop
        if effect.step.kind.gathered:
            many: GatheredRunner = self.runners[effect.step.kind.name]
            make_all = many([call], workshop)
            return self._undone(lambda connection, at: make_all(connection, at)[0][-1])
        one: Runner = self.runners[effect.step.kind.name]
        outcome = one(call, workshop)
        return self._undone(outcome.commit) if outcome.commit is not None else Made("done", {"result": outcome.result})

    def _undone(self, make: Any) -> Made:
        """What a step makes in the database, which is undone at once."""

        def job(connection: Connection) -> None:
            now = self.clock.now()
            if self.known:
                items.start_run(connection, self.run_id, self.item_id, self.flow.name, 0, now)
            else:
                arrival = items.Arrival(self.flow.name, 0, "sample", self.item_id, self.sha256, self.name, 0)
                items.arrive(connection, arrival, (self.item_id, self.run_id), now)
            raise _UndoneError(make(connection, now))

        try:
            self.database.write(job)
        except _UndoneError as undone:
            return undone.made
        raise AssertionError("nothing was undone")


def _not_yet(state: State, effect: Perform, entry: Entry) -> str:
    """Why a step would be done again, or nothing."""
    until = effect.step.common.until
    if until is None:
        return ""
    try:
        return (
            "" if there(state, effect.path, entry.data["result"], entry.at) else f"It does not hold yet that {until.holds}: it would be done again."
        )
    except CannotGoOn as error:
        return str(error)


def _would(effect: Perform) -> str:
    if effect.step.kind.would is not None:
        return effect.step.kind.would(effect.parameters)
    return "Another flow would be run." if effect.step.kind.awaited else "It would be begun."
