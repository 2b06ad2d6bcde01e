"""The journal: what happened in a run, entry by entry."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection, bindparam, delete, insert, select, update

from metrikon.core.flows.state import Entry
from metrikon.core.values.exact import dumps, loads
from metrikon.store.hot import Hot
from metrikon.store.leases import Claim, LeaseLost
from metrikon.store.tables import journal, runs


@dataclass(frozen=True)
class Written:
    """An entry to be written: the fold's entry with what people want to see of it."""

    event: str
    path: str = ""
    data: Mapping[str, Any] = field(default_factory=dict)
    kind: str = ""
    at: int = 0  # milliseconds since 1970
    took: int | None = None  # milliseconds
    kind_version: int = 1

    @property
    def entry(self) -> Entry:
        return Entry(self.event, self.path, self.data, self.at)


# statements of the hot path are built once: building one costs more than running it
_COUNT = Hot(update(runs).where(runs.c.id == bindparam("run")).values(entries=runs.c.entries + bindparam("more")).returning(runs.c.entries))
_COUNT_LEASED = Hot(
    update(runs)
    .where(runs.c.id == bindparam("run"), runs.c.epoch == bindparam("lease_epoch"), runs.c.state == "running")
    .values(entries=runs.c.entries + bindparam("more"))
    .returning(runs.c.entries)
)
_COLUMNS = ("run_id", "number", "event", "path", "kind", "kind_version", "at", "took", "data")
_APPEND = Hot(insert(journal).values({name: bindparam(name) for name in _COLUMNS}).inline())
_LOAD = Hot(
    select(journal.c.number, journal.c.event, journal.c.path, journal.c.data, journal.c.at)
    .where(journal.c.run_id == bindparam("run"), journal.c.number > bindparam("after"))
    .order_by(journal.c.number)
)


def append(connection: Connection, run_id: str, entries: Sequence[Written], claim: Claim | None = None) -> int:
    """Add entries to a run's journal; the number of entries it then has.

    With a claim, its lease must still hold: raises `LeaseLost` otherwise, and nothing is added.
    """
    if claim is None:
        total = _COUNT.scalar(connection, {"run": run_id, "more": len(entries)})
    else:
        leased = _COUNT_LEASED.scalar(connection, {"run": run_id, "more": len(entries), "lease_epoch": claim.epoch})
        if leased is None:
            raise LeaseLost(run_id)
        total = leased
    first = total - len(entries) + 1
    rows = [
        {
            "run_id": run_id,
            "number": first + offset,
            "event": each.event,
            "path": each.path,
            "kind": each.kind,
            "kind_version": each.kind_version,
            "at": each.at,
            "took": each.took,
            "data": dumps(each.data),
        }
        for offset, each in enumerate(entries)
    ]
    if rows:
        _APPEND.many(connection, rows)
    return int(total)


def forget_looks(connection: Connection, run_id: str, path: str) -> None:
    """A step is done again until a condition holds: of what was noted of earlier times nothing is kept, as the entry that follows counts them."""
    looks = (journal.c.run_id == run_id, journal.c.path == path, journal.c.event.in_(("begun", "looked")))
    connection.execute(delete(journal).where(*looks))


def load(connection: Connection, run_id: str, after: int = 0) -> list[tuple[int, Entry]]:
    """The entries of a run in order, each with its number."""
    rows: Any = _LOAD.run(connection, {"run": run_id, "after": after})
    return [(number, Entry(event, path, loads(data), at)) for number, event, path, data, at in rows]


def to_replay(connection: Connection, run_id: str, after: int = 0) -> list[tuple[int, Entry]]:
    """As `load`, without entries that a step was begun of which the next one says that it is done: nothing is learned from those."""
    rows: Any = _LOAD.run(connection, {"run": run_id, "after": after})
    done: set[str] = set()
    told: list[tuple[int, Entry]] = []
    for number, event, path, data, at in reversed(rows):
        if event == "begun" and path in done:
            continue
        if event == "done":
            done.add(path)
        elif done:
            done.discard(path)
        told.append((number, Entry(event, path, loads(data), at)))
    told.reverse()
    return told


def of_event(connection: Connection, run_id: str, event: str) -> list[Entry]:
    """The entries of a run of one event, in order: the others are not read."""
    query = select(journal.c.event, journal.c.path, journal.c.data, journal.c.at).where(journal.c.run_id == run_id, journal.c.event == event)
    return [Entry(event, path, loads(data), at) for event, path, data, at in connection.execute(query.order_by(journal.c.number))]


def shown(connection: Connection, run_id: str) -> list[dict[str, Any]]:
    """The journal for people: every column, the data as JSON."""
    query = select(journal).where(journal.c.run_id == run_id).order_by(journal.c.number)
    return [{**row, "data": loads(row["data"])} for row in connection.execute(query).mappings()]
