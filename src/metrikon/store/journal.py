"""The journal: what happened in a run, entry by entry."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection, insert, select, update

from metrikon.core.flows.fold import Entry
from metrikon.core.values.exact import dumps, loads
from metrikon.store.tables import journal, runs


@dataclass(frozen=True)
class Written:
    """An entry to be written: the fold's entry with what people want to see of it."""

    event: str
    path: str = ""
    data: Mapping[str, Any] = field(default_factory=dict)
    kind: str = ""
    at: int = 0
    took: int | None = None  # milliseconds

    @property
    def entry(self) -> Entry:
        return Entry(self.event, self.path, self.data)


def append(connection: Connection, run_id: str, entries: Sequence[Written]) -> int:
    """Add entries to a run's journal; the number of entries it then has."""
    if not entries:
        return int(connection.execute(select(runs.c.entries).where(runs.c.id == run_id)).scalar_one())
    total = connection.execute(
        update(runs).where(runs.c.id == run_id).values(entries=runs.c.entries + len(entries)).returning(runs.c.entries)
    ).scalar_one()
    first = total - len(entries) + 1
    connection.execute(
        insert(journal),
        [
            {
                "run_id": run_id,
                "number": first + offset,
                "event": each.event,
                "path": each.path,
                "kind": each.kind,
                "at": each.at,
                "took": each.took,
                "data": dumps(each.data),
            }
            for offset, each in enumerate(entries)
        ],
    )
    return int(total)


def load(connection: Connection, run_id: str, after: int = 0) -> list[tuple[int, Entry]]:
    """The entries of a run in order, each with its number."""
    columns = (journal.c.number, journal.c.event, journal.c.path, journal.c.data)
    query = select(*columns).where(journal.c.run_id == run_id, journal.c.number > after).order_by(journal.c.number)
    return [(number, Entry(event, path, loads(data))) for number, event, path, data in connection.execute(query)]


def shown(connection: Connection, run_id: str) -> list[dict[str, Any]]:
    """The journal for people: every column, the data as JSON."""
    query = select(journal).where(journal.c.run_id == run_id).order_by(journal.c.number)
    return [{**row, "data": loads(row["data"])} for row in connection.execute(query).mappings()]
