"""What runs have sent out is taken back: rows are removed, or hold again what stood there before. What cannot be taken back, or was changed since, stays and is told."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from sqlalchemy import Connection

from metrikon.core.flows.keys import row_key
from metrikon.engine.correcting import STAYS, WILL_TAKE_BACK, Came, CameOf
from metrikon.engine.delivering import Deliveries
from metrikon.engine.refusing import NotNow, NotThere
from metrikon.ports.clock import Clock
from metrikon.store import deliveries, journal, runs
from metrikon.store.database import Database
from metrikon.store.deliveries import Delivery
from metrikon.store.journal import Written

MOST_OF_A_RUN = 100_000  # rows and the like that a run can have sent out
MOST = 5000  # runs of a version of a flow that are taken back at once
SET_SINCE = "A later run has set it since, and it stays."
FORGOTTEN = "What it held is kept no longer, so that nobody can tell whether somebody has changed it since. Look there, and remove it by hand."
CANNOT = "It cannot be taken back from here."


@dataclass(frozen=True)
class Back:
    """One thing that a run has sent out, and why it stays; nothing where it is taken back."""

    delivery: Delivery
    stays: str


class TakingBack:
    """Takes back what runs have sent out."""

    def __init__(self, database: Database, clock: Clock, came: CameOf, writing: Deliveries) -> None:
        self._database, self._clock, self._came, self._writing = database, clock, came, writing

    def look(self, run_ids: Sequence[str]) -> list[Back]:
        """What would be taken back of settled runs, and what would stay. Raises `NotThere` and `NotNow`."""
        with self._database.reading() as connection:
            found = [each for run_id in run_ids for each in self._of(connection, run_id)]
            found, moved = _with_those_moved(connection, found)
            stay = {each.key: SET_SINCE for each in found if _set_since(connection, each, set(run_ids))}
            gone = {run_id for run_id in {each.run_id for each in found} if (run := runs.get(connection, run_id)) is not None and run["forgotten_at"]}
        stay |= moved
        stay |= {each.key: FORGOTTEN for each in found if each.run_id in gone}
        return [Back(came.delivery, _why(came, stay)) for came in self._came.would(found, WILL_TAKE_BACK)]

    def take_back(self, run_ids: Sequence[str], by: str) -> list[Back]:
        """Take back what settled runs have sent out. Raises as `look`."""
        every = self.look(run_ids)

        def job(connection: Connection) -> None:
            whole, parts = _whole_ones(connection, [each.delivery for each in every if not each.stays])
            deliveries.remove_outright(connection, whole)
            moved = {*whole, *deliveries.move(connection, parts, "take back", attempts=0, not_before=0, error=None)}
            now = self._clock.now()
            for run_id in dict.fromkeys(each.delivery.run_id for each in every if each.delivery.key in moved):
                count = sum(each.delivery.run_id == run_id for each in every if each.delivery.key in moved)
                journal.append(connection, run_id, [Written("taken back", "", {"by": by, "count": count}, at=now)])

        self._database.write(job)
        self._writing.wake()
        return every

    def of_version(self, flow: str, version: int) -> list[str]:
        """The settled runs of a version of a flow by which something was sent out, the latest first. Raises `NotNow` for too many."""
        with self._database.reading() as connection:
            found = deliveries.runs_of_version(connection, flow, version, MOST + 1)
        if len(found) > MOST:
            raise NotNow(f"More than {MOST} runs of version {version} of {flow} have sent something out. Take them back by the day, run by run.")
        return found

    def _of(self, connection: Connection, run_id: str) -> Iterator[Delivery]:
        run = runs.get(connection, run_id)
        if run is None:
            raise NotThere(f"There is no run {run_id}.")
        if run["state"] not in runs.SETTLED:
            raise NotNow(f"The run is {run['state']}. Cancel it, or let it come to its end; then it can be taken back.")
        yield from reversed([each for each in deliveries.of_run(connection, run_id, MOST_OF_A_RUN) if each.state in ("written", "corrected")])


def _whole_ones(connection: Connection, found: Sequence[Delivery]) -> tuple[list[str], list[str]]:
    """The keys of moved rows of which all that they were before is taken back as well, so that they are removed outright; and the keys of all others."""
    keys = {each.key for each in found}
    whole, former = list[str](), set[str]()
    for each in found:
        before = deliveries.had_before(connection, each.key) if each.state == "written" and each.purpose == "move" else []
        if before and all(key in keys for key in before):
            whole.append(each.key)
            former |= set(before)
    return whole, [each.key for each in found if each.key not in {*whole, *former}]


def _with_those_moved(connection: Connection, found: Sequence[Delivery]) -> tuple[list[Delivery], dict[str, str]]:
    """What is there, with what has another key now, and why those of the latter stay that no run among these has moved.

    What was moved by one of them has its own key again when that is taken back, and goes then.
    """
    stands = {each.key: each.state for each in found}
    kept, stay = list[Delivery](), dict[str, str]()
    for each in found:
        if each.state == "written":
            kept.append(each)
            continue
        now = deliveries.took_place_of(connection, each.key)
        if now is None:
            continue  # it is there no longer
        kept.append(each)
        last: str | None = now
        seen: set[str] = set()
        while last is not None and stands.get(last) == "corrected" and last not in seen:
            seen.add(last)
            last = deliveries.took_place_of(connection, last)
        if last is None or last not in stands:
            by = deliveries.run_of(connection, last or now)
            stay[each.key] = f"The run {by} has corrected it since, and it has another key now. Take that run back first."
    return kept, stay


def _set_since(connection: Connection, found: Delivery, but: set[str]) -> bool:
    """Whether another run has set columns of a row since."""
    own, sets = row_key(found.key)
    return not sets and bool(deliveries.set_by(connection, own) - but)


def _why(came: Came, stay: Mapping[str, str]) -> str:
    return CANNOT if came.will == STAYS else stay.get(came.delivery.key, "")
