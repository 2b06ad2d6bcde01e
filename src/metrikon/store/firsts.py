"""First rows of destinations: a person looks at one before any is written, if a flow says so."""

from __future__ import annotations

from typing import Literal

from sqlalchemy import Connection, insert, select

from metrikon.store.outside_tables import first_rows
from metrikon.store.tables import deliveries

SHOWN = "shown"  # the state of a row that waits until it was looked at


def stands(connection: Connection, run_id: str, flow: str, version: int, target: str) -> Literal["", "shown", "behind"]:
    """How rows of a run stand: "shown" to a person, "behind" one of another run that is, or nothing where the first one was looked at."""
    if _looked_at(connection, flow, version, target):
        return ""
    alike = (deliveries.c.flow == flow) & (deliveries.c.flow_version == version) & (deliveries.c.target == target)
    query = select(deliveries.c.run_id).where(deliveries.c.state == SHOWN, alike).order_by(deliveries.c.begun_at, deliveries.c.run_id).limit(1)
    first = connection.execute(query).scalar()
    return "shown" if first in (None, run_id) else "behind"


def _looked_at(connection: Connection, flow: str, version: int, target: str) -> bool:
    at = (first_rows.c.flow == flow) & (first_rows.c.version == version) & (first_rows.c.target == target)
    return connection.execute(select(first_rows.c.at).where(at)).first() is not None


def look(connection: Connection, run_id: str, by: str, at: int) -> list[str]:
    """A person has looked at the rows that a run waits with: they may be written, and all others like them. The other runs that wait with such are returned."""
    shown = deliveries.c.state == SHOWN
    columns = (deliveries.c.flow, deliveries.c.flow_version, deliveries.c.target)
    others: set[str] = set()
    for flow, version, target in connection.execute(select(*columns).where(shown, deliveries.c.run_id == run_id).distinct()).all():
        if not _looked_at(connection, flow, version, target):
            connection.execute(insert(first_rows).values(flow=flow, version=version, target=target, by=by, at=at))
        alike = shown & (deliveries.c.flow == flow) & (deliveries.c.flow_version == version) & (deliveries.c.target == target)
        others |= set(connection.execute(select(deliveries.c.run_id).where(alike).distinct()).scalars())
    return sorted(others - {run_id})
