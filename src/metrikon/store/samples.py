"""Samples: items that a flow is tried on, each under a name, with a word why it is kept. And candidates: the latest that came in by each intake."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection, delete, func, insert, select

from metrikon.store.tables import items, samples


def put(connection: Connection, row: dict[str, Any]) -> None:
    """Keep a sample in the place of the one of that name."""
    remove(connection, row["flow"], row["name"])
    connection.execute(insert(samples), [row])


def remove(connection: Connection, flow: str, name: str) -> bool:
    """Keep a sample no longer; whether there was one."""
    return bool(connection.execute(delete(samples).where(samples.c.flow == flow, samples.c.name == name)).rowcount)


def get(connection: Connection, flow: str, name: str) -> dict[str, Any] | None:
    """A sample by its name."""
    row = connection.execute(select(samples).where(samples.c.flow == flow, samples.c.name == name)).mappings().first()
    return dict(row) if row else None


def of_flow(connection: Connection, flow: str) -> list[dict[str, Any]]:
    """The samples of a flow, by name."""
    return [dict(row) for row in connection.execute(select(samples).where(samples.c.flow == flow).order_by(samples.c.name)).mappings()]


def candidates(connection: Connection, flow: str | None, most: int) -> list[dict[str, Any]]:
    """The latest items by each intake of a flow, or of every flow, newest first."""
    place = func.row_number().over(partition_by=(items.c.flow, items.c.intake), order_by=items.c.id.desc()).label("place")
    query = select(items.c.id, items.c.flow, items.c.name, items.c.intake, items.c.sha256, items.c.size, items.c.received_at, place)
    inner = (query.where(items.c.flow == flow) if flow is not None else query).subquery()
    chosen = select(inner).where(inner.c.place <= most).order_by(inner.c.id.desc())
    return [{name: value for name, value in row.items() if name != "place"} for row in connection.execute(chosen).mappings()]


def held(connection: Connection, most: int) -> set[str]:
    """The files that samples and candidates hold on to, by hash."""
    kept = set(connection.execute(select(samples.c.sha256)).scalars())
    return kept | {str(row["sha256"]) for row in candidates(connection, None, most)}
