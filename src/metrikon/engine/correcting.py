"""A record corrected after its run has come to its end: the record changes, and a run that goes on from it puts right all that came of it."""

from __future__ import annotations

import logging
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from metrikon.core.flows.model import Said
from metrikon.core.records import evidence, findings
from metrikon.core.records.pointers import leaves
from metrikon.engine.again import Again, Wish
from metrikon.engine.answers import MUST_HOLD, Answers, StillWrong
from metrikon.engine.catalog import Catalog
from metrikon.engine.engine import Engine
from metrikon.engine.rechecking import Reading
from metrikon.engine.refusing import NotNow, NotThere
from metrikon.engine.rows_out import needed_to_take_back
from metrikon.engine.undoing import Undoing
from metrikon.ports.clock import Clock
from metrikon.ports.destination import Change, Destination
from metrikon.store import calls, deliveries, records, runs
from metrikon.store.database import Database
from metrikon.store.deliveries import Delivery

log = logging.getLogger("metrikon.engine")
CAN_BE_CORRECTED = ("approved", "clear", "read")  # those that were only read, by a flow without a `check`, when their run is over
WILL_SET, WILL_ASK, WILL_TAKE_BACK, STAYS = "set", "ask", "take back", "stay"


@dataclass(frozen=True)
class Came:
    """Something that came of a run, and what would become of it: "set", "take back", "ask" (a person), or "stay"."""

    delivery: Delivery
    will: str


@dataclass(frozen=True)
class Corrected:
    """What a correction is: the record's values as they are read and checked, what came of it, and the run that puts it right (none where it was only asked)."""

    values: Mapping[str, Any]
    came: list[Came]
    run_id: str = ""


class CameOf:
    """What came of runs, and what can be done with it. `build` makes the adapter of a destination as a flow names it; `undoing` takes back what is no row."""

    def __init__(self, database: Database, catalog: Catalog, build: Callable[[Said], Destination], undoing: Undoing) -> None:
        self._database, self._catalog, self._build, self._undoing = database, catalog, build, undoing

    def item(self, item_id: str, what: str) -> list[Came]:
        """All that came of an item, with what would become of it if it were to be "set" or "taken back"."""
        with self._database.reading() as connection:
            found = deliveries.of_item(connection, item_id)
        return self.would(found, what)

    def would(self, found: list[Delivery], what: str) -> list[Came]:
        """Of each delivery that is there what would become of it."""
        known: dict[tuple[str, int, str], frozenset[Change]] = {}
        there = ("written", "corrected") if what == WILL_TAKE_BACK else ("written",)
        return [Came(each, self._will(each, what, known)) for each in found if each.state in there]

    def _will(self, found: Delivery, what: str, known: dict[tuple[str, int, str], frozenset[Change]]) -> str:
        if found.kind != "row":
            return self._will_other(found, what)
        place = (found.flow, found.flow_version, found.target)
        if place not in known:
            known[place] = self._changes(*place)
        changes = known[place]
        if what == WILL_SET:
            return WILL_SET if "set" in changes else WILL_ASK
        return WILL_TAKE_BACK if needed_to_take_back(found) in changes else STAYS

    def _will_other(self, found: Delivery, what: str) -> str:
        """Of something that is no row: a file is put elsewhere, or removed; a mail stays."""
        taker = self._undoing.taker(found.flow, found.flow_version, found.path)
        if what == WILL_SET:
            return WILL_SET if found.moves and taker is not None else WILL_ASK
        return STAYS if taker is None else WILL_TAKE_BACK

    def _changes(self, flow: str, version: int, target: str) -> frozenset[Change]:
        """What can be done with rows that are at a destination; nothing where nobody can be asked."""
        try:
            return self._build(self._catalog.flow(flow, version).destinations[target]).changes
        except Exception:
            log.warning("destination %s of %s version %s cannot be asked what it can do", target, flow, version, exc_info=True)
            return frozenset()


class Correcting:
    """Corrects records that were written."""

    def __init__(self, database: Database, catalog: Catalog, clock: Clock, answers: Answers, again: Again, engine: Engine, came: CameOf) -> None:
        self._database, self._catalog, self._clock = database, catalog, clock
        self._answers, self._again, self._engine, self._came = answers, again, engine, came

    def look(self, record_id: str, values: Mapping[str, Any], reader: str | None = None) -> Corrected:
        """What a correction would be; nothing is kept. Raises as `correct`."""
        record = self._record(record_id)
        reading = self._checked(record_id, values, reader)
        return Corrected(reading.record, self._came.item(record["item_id"], WILL_SET))

    def correct(self, record_id: str, values: Mapping[str, Any], by: str, comment: str = "", reader: str | None = None) -> Corrected:
        """Correct a record; a new run of its item sets what came of it right.

        Raises `NotThere`, `BadTyped`, `StillWrong`, and `NotNow` for a record that waits for a person or was refused, or of which nothing would change.
        """
        record = self._record(record_id)
        reading = self._checked(record_id, values, reader)
        came = self._came.item(record["item_id"], WILL_SET)
        changed = _changed(record["values"], reading.record)
        if not changed:
            raise NotNow("The record holds these values already: nothing would change.")
        start = self._after(record)

        def job(connection: Connection) -> str:
            self._answers.rewrite(connection, record_id, reading.record, by, comment)
            told = {"evidence": evidence.as_json(reading.evidence), "findings": findings.as_json(reading.findings)}
            records.change(connection, record_id, self._clock.now(), **told)
            calls.reject_run(connection, record["run_id"])  # an answer that a person corrected is not given again
            if not start:
                return ""
            noted = {f"{record['path']}.record{_as_path(pointer)}": value for pointer, value in changed.items()}
            return self._again.begin(connection, Wish(record["item_id"], by, start, record=(record["path"], reading.record), noted=noted))

        run_id = self._database.write(job)
        self._engine.wake()
        return Corrected(reading.record, came, run_id)

    def _checked(self, record_id: str, values: Mapping[str, Any], reader: str | None) -> Reading:
        """The record as it would be. Raises `BadTyped` and `StillWrong`."""
        reading = self._answers.check(record_id, values, reader)
        if wrong := [each for each in reading.findings if each.check in MUST_HOLD]:
            raise StillWrong(wrong, "corrected so")
        return reading

    def _record(self, record_id: str) -> dict[str, Any]:
        with self._database.reading() as connection:
            record = records.get(connection, record_id)
            if record is None:
                raise NotThere(f"There is no record {record_id}.")
            run = runs.get(connection, record["run_id"])
        if record["state"] == "read" and run is not None and run["state"] not in runs.SETTLED:
            raise NotNow("The run of this record has not come to its end. Let it; then the record can be corrected.")
        if record["state"] == "waits":
            raise NotNow("The record waits for a person: approve it with the corrected values.")
        if record["state"] == "replaced":
            raise NotNow("The record is replaced: a later run of its item has read it anew. Correct the record of that run.")
        if record["state"] not in CAN_BE_CORRECTED:
            raise NotNow(f"The record is {record['state']}; only one that was approved, or needed nobody, can be corrected.")
        return record

    def _after(self, record: Mapping[str, Any]) -> str:
        """The step that comes after the one that read a record, in the newest version of its flow; nothing where that was the last."""
        with self._database.reading() as connection:
            run = runs.get(connection, record["run_id"])
        assert run is not None, "a record has its run"
        flow = self._catalog.newest_flow(str(run["flow"]))
        names = [step.name for step in flow.every_step]
        own = str(record["path"]).rsplit("/", 1)[-1]
        if own not in names:
            raise NotNow(f"The flow {flow.name} has no step {own!r} any more, which read this record. Put it back, or run the item again.")
        at = names.index(own)
        return names[at + 1] if at + 1 < len(names) else ""


def _changed(before: Mapping[str, Any], now: Mapping[str, Any]) -> dict[str, Any]:
    """The values that are other ones now, by their JSON Pointers; None for one that is gone."""
    was, held = dict(leaves(before)), dict(leaves(now))
    found = {pointer: value for pointer, value in held.items() if was.get(pointer) != value}
    return found | {pointer: None for pointer, value in was.items() if value is not None and pointer not in held}


def _as_path(pointer: str) -> str:
    """A JSON Pointer as a path within a result, whose rows are counted from 1: /lines/0/amount is .lines[1].amount."""
    return "".join(f"[{int(part) + 1}]" if part.isdecimal() else f".{part}" for part in pointer.split("/")[1:])
