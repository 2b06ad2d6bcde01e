"""What people decide: correct and approve a record, refuse it, continue a run, run a held item anyway."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

from sqlalchemy import Connection

from metrikon.core.extraction.settle import Reading
from metrikon.core.records import evidence, findings
from metrikon.core.records.rules import held_keys
from metrikon.engine.delivering import handed_over
from metrikon.engine.engine import Engine
from metrikon.engine.rechecking import reread
from metrikon.engine.refusing import NotNow, NotThere
from metrikon.engine.results import packed, unpacked
from metrikon.engine.using import end_used, told_user
from metrikon.engine.workshop import EngineWorkshop
from metrikon.ports.clock import Clock
from metrikon.store import calls, deliveries, events, firsts, journal, questions, records, runs
from metrikon.store.database import Database
from metrikon.store.items import REPEAT
from metrikon.store.journal import Written

AT_ONCE = 200  # runs ended in one commit
MUST_HOLD = ("required", "type", "format")  # findings that a person cannot wave through


class StillWrong(Exception):
    """The record cannot be approved, or corrected, as it is; `findings` say why."""

    def __init__(self, found: list[findings.Finding], what: str = "approved yet") -> None:
        super().__init__(f"The record cannot be {what}: " + " ".join(each.message for each in found))
        self.findings = found


class Answers:
    """Decisions of people, journaled like everything else."""

    def __init__(self, database: Database, workshop: EngineWorkshop, engine: Engine) -> None:
        self._database = database
        self._workshop = workshop
        self._engine = engine
        self._clock: Clock = workshop.clock

    def check(self, record_id: str, values: Mapping[str, Any], reader: str | None = None) -> Reading:
        """What checks would say of a record with these values; nothing is kept. `reader`: the decimal mark that the person writes. Raises `BadTyped`."""
        return reread(self._database, self._workshop, self._record(record_id), values, reader)[0]

    def approve(self, record_id: str, values: Mapping[str, Any] | None, by: str, comment: str = "", reader: str | None = None) -> None:
        """Approve a record, corrected if values are given; its run goes on. `reader` as for `check`. Raises `BadTyped` and `StillWrong`."""
        record = self._record(record_id)
        reading, kind = reread(self._database, self._workshop, record, record["values"] if values is None else values, reader)
        wrong = [each for each in reading.findings if each.check in MUST_HOLD]
        if wrong:
            raise StillWrong(wrong)

        def job(connection: Connection) -> None:
            self._still_waits(connection, record)
            now = self._clock.now()
            records.hold_keys(connection, kind.name, held_keys(kind, reading.record), record["item_id"], record_id)
            kept = findings.as_json(reading.findings)
            records.change(
                connection,
                record_id,
                now,
                **records.described(kind, reading.record),
                values=reading.record,
                evidence=evidence.as_json(reading.evidence),
                findings=kept,
                state="approved",
                reviewed_at=now,
                reviewed_by=by,
                comment=comment,
            )
            records.replaces(connection, record_id, now)
            if reading.record != record["as_read"]:
                calls.reject_run(connection, record["run_id"])  # an answer that a person corrected is not given again
            result = {"id": record_id, "record": reading.record, "findings": kept, "approved": True}
            data = packed({"decision": "approve", "by": by, "comment": comment, "result": result}, self._workshop.files)
            self._answer(connection, record, data, now)

        self._database.write(job)
        self._engine.wake()

    def refuse(self, record_id: str, by: str, comment: str) -> None:
        """Refuse a record: its run ends and nothing is written."""
        record = self._record(record_id)

        def job(connection: Connection) -> None:
            self._still_waits(connection, record)
            now = self._clock.now()
            records.change(connection, record_id, now, state="refused", reviewed_at=now, reviewed_by=by, comment=comment)
            records.release_keys(connection, record_id)
            calls.reject_run(connection, record["run_id"])
            self._answer(connection, record, {"decision": "refuse", "by": by, "comment": comment}, now)

        self._database.write(job)
        self._engine.wake()

    def rewrite(self, connection: Connection, record_id: str, values: Mapping[str, Any], by: str, comment: str = "") -> None:
        """A record holds other values, as a person has corrected them; what it held is kept. In a transaction of the caller's."""
        record = records.get(connection, record_id)
        if record is None or record["values"] == values:
            return
        kind, _ = self._workshop.catalog.record_type(record["record_type"], record["type_version"])
        now = self._clock.now()
        records.keep_before(connection, record_id, records.Before(record["values"], now, by, comment))
        told = {"state": "approved", "reviewed_at": now, "reviewed_by": by, "comment": comment or record["comment"]}
        records.change(connection, record_id, now, **records.described(kind, dict(values)), values=dict(values), **told)
        records.hold_keys(connection, kind.name, held_keys(kind, dict(values)), record["item_id"], record_id)

    def continue_run(self, run_id: str, by: str, *, leave: bool = False, unsure: str = "", otherwise: str = "", looked: bool = False) -> str:
        """Continue a parked run, run a held one anyway, or try a waiting one at once; what it was is returned.

        `leave`: elements of lists whose failures are gathered are left out, in place of being tried again. `unsure`: what may have
        gone out "went", as a person has seen, or is to be done "again"; without that word it stays as it is. `otherwise`: what is there with other values is left so ("keep"), or set or sent again ("renew"). `looked`: at the first row that it waits
        with; it is written then, and the other runs that wait with such rows go on.
        """
        said = {**({"leave": True} if leave else {}), **({"unsure": unsure} if unsure else {}), **({"otherwise": otherwise} if otherwise else {})}

        def job(connection: Connection) -> str:
            state = _state(connection, run_id)
            if state not in ("parked", "held", "waiting"):
                raise NotNow(f"The run is {state}; only a parked, held or waiting run can be continued.")
            now = self._clock.now()
            if state != "held":
                journal.append(connection, run_id, [Written("continued", "", {"by": by, **said}, at=now)])
            if unsure == "went":
                deliveries.seen_there(connection, run_id, by, now)
            if otherwise == "keep":
                deliveries.kept(connection, run_id)
            runs.move(connection, run_id, "ready", now, "", now)
            for other in firsts.look(connection, run_id, by, now) if looked else ():
                if _state(connection, other) == "parked":
                    journal.append(connection, other, [Written("continued", "", {"by": by}, at=now)])
                    runs.move(connection, other, "ready", now, "", now)
            return str(state)

        state = self._database.write(job)
        self._workshop.board.breaker.forget()
        self._engine.wake()
        return state

    def continue_parked(self, by: str) -> int:
        """Continue every parked run; how many there were."""
        return self.continue_because("", by)

    def continue_because(self, reason: str, by: str) -> int:
        """Continue the runs that are parked for a reason that is over; how many there were."""
        with self._database.reading() as connection:
            parked = runs.parked(connection, reason)
        for run_id in parked:
            try:
                self.continue_run(run_id, by)
            except NotNow:
                continue  # it moved on by itself
        return len(parked)

    def repeats(self, flow: str) -> list[str]:
        """The runs of likely repeats of a flow, or of all flows, that are held."""
        with self._database.reading() as connection:
            return runs.held_for(connection, flow, REPEAT)

    def settle_repeats(self, flow: str, do: Literal["take", "let go"], count: int, by: str) -> int:
        """Let all likely repeats of a flow go on, or end them; how many there were. `count`: as many as were told before. Raises `NotNow` when there are others now."""
        found = self.repeats(flow)
        if len(found) != count:
            raise NotNow(f"There are {len(found)} likely repeats now, and not {count}. Look again, then say yes.")
        for run_id in found:
            try:
                self.continue_run(run_id, by) if do == "take" else self.cancel(run_id, by, "a repeat, let go")
            except NotNow:
                continue  # somebody else has settled it meanwhile
        return len(found)

    def cancel(self, run_id: str, by: str, comment: str = "") -> None:
        """End a run where it stands: what it has written stays, nothing more of it is done."""

        def job(connection: Connection) -> None:
            state = _state(connection, run_id)
            if state in runs.SETTLED:
                raise NotNow(f"The run is {state} already.")
            self.end(connection, run_id, by, f"Cancelled by {by}{f': {comment}' if comment else '.'}")
            recordings.extend(runs.files_of(connection, [run_id]))

        recordings: list[str] = []
        self._database.write(job)
        self._workshop.stop_hearing(recordings)
        self._engine.wake()

    def cancel_all(self, flow: str, by: str, comment: str = "") -> int:
        """End all runs of a flow that have not settled; how many there were."""
        reason, count = f"Cancelled by {by}{f': {comment}' if comment else '.'}", 0

        def job(connection: Connection) -> int:
            found = runs.unsettled(connection, flow, AT_ONCE)
            for run_id in found:
                self.end(connection, run_id, by, reason)
            recordings.extend(runs.files_of(connection, found))
            return len(found)

        recordings: list[str] = []

        while done := self._database.write(job):
            count += done
        self._workshop.stop_hearing(recordings)
        self._engine.wake()
        return count

    def pause(self, run_id: str, by: str) -> None:
        """Pause a run: nothing more of it is done until it is continued. A step that is under way is done again then, unless it came to its end."""

        def job(connection: Connection) -> None:
            state = _state(connection, run_id)
            if state not in ("ready", "running", "waiting", "review"):
                raise NotNow(f"The run is {state}; only one that goes on or waits can be paused.")
            runs.move(connection, run_id, "held", self._clock.now(), f"Paused by {by}. Continue it to let it go on.")

        self._database.write(job)

    def end(self, connection: Connection, run_id: str, by: str, reason: str) -> None:
        """End a run where it stands, in a transaction of the caller's."""
        now = self._clock.now()
        journal.append(connection, run_id, [Written("cancelled", "", {"by": by, "reason": reason}, at=now)])
        entries: dict[str, list[Written]] = {}
        handed_over(connection, entries, deliveries.dropped(connection, run_id, reason), now)
        for other, written in entries.items():
            journal.append(connection, other, written)
        runs.wake(connection, list(entries), now)
        records.closed(connection, run_id, by, reason, now)
        questions.close(connection, run_id, None, now)
        events.unheard(connection, run_id)
        end_used(connection, run_id, now)
        runs.move(connection, run_id, "stopped", now, reason)
        run = runs.get(connection, run_id)
        if run is not None and run["used_by"] is not None:
            told_user(connection, run["used_by"], run["used_at"], run_id, "stopped", reason, None, now)

    def _record(self, record_id: str) -> dict[str, Any]:
        with self._database.reading() as connection:
            record = records.get(connection, record_id)
        if record is None:
            raise NotThere(f"There is no record {record_id}.")
        return record

    def _still_waits(self, connection: Connection, record: dict[str, Any]) -> None:
        now = records.get(connection, record["id"])
        if now is None or now["state"] != "waits":
            state = now["state"] if now else "gone"
            raise NotNow(f"The record does not wait for a person any more; it is {state}.")

    def _answer(self, connection: Connection, record: dict[str, Any], data: Mapping[str, Any], now: int) -> None:
        asked = journal.of_event(connection, record["run_id"], "asked")
        found = [unpacked(entry, self._workshop.files) for entry in asked]
        path = next(entry.path for entry in reversed(found) if entry.data["result"]["id"] == record["id"])
        journal.append(connection, record["run_id"], [Written("answered", path, data, "check", now)])
        runs.wake(connection, [record["run_id"]], now)  # one that is worked on keeps its lease, and notices by itself


def _state(connection: Connection, run_id: str) -> str:
    """Where a run stands. Raises `NotThere`."""
    run = runs.get(connection, run_id)
    if run is None:
        raise NotThere(f"There is no run {run_id}.")
    return str(run["state"])
