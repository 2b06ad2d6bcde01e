"""Connections as stored. Their secrets are sealed; nothing here can open them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import Connection, delete, insert, select, update
from sqlalchemy.dialects.sqlite import insert as upsert

from metrikon.store.outside_tables import connections, outside_calls

KEPT = 500  # calls of each connection


def put(connection: Connection, row: Mapping[str, Any]) -> None:
    """Keep a connection, in the place of one of the same name."""
    statement = upsert(connections).values(dict(row))
    changed = {name: statement.excluded[name] for name in row if name != "name"}
    connection.execute(statement.on_conflict_do_update(index_elements=["name"], set_=changed))


def get(connection: Connection, name: str) -> dict[str, Any] | None:
    """A connection, or None."""
    row = connection.execute(select(connections).where(connections.c.name == name)).mappings().first()
    return dict(row) if row else None


def all_connections(connection: Connection) -> list[dict[str, Any]]:
    """Every connection, by name."""
    return [dict(row) for row in connection.execute(select(connections).order_by(connections.c.name)).mappings()]


def remove(connection: Connection, name: str) -> bool:
    """Keep a connection no longer; whether it was there."""
    return bool(connection.execute(delete(connections).where(connections.c.name == name)).rowcount)


def change(connection: Connection, name: str, **columns: Any) -> None:
    """Change columns of a connection."""
    connection.execute(update(connections).where(connections.c.name == name).values(columns))


def failing(connection: Connection) -> list[dict[str, Any]]:
    """Connections that fail, those that fail for longest first."""
    query = select(connections).where(connections.c.failing_since.is_not(None)).order_by(connections.c.failing_since)
    return [dict(row) for row in connection.execute(query).mappings()]


def note_call(connection: Connection, row: Mapping[str, Any]) -> None:
    """Note a call that was made by a connection; the latest of each are kept."""
    number = connection.execute(insert(outside_calls).values(dict(row)).returning(outside_calls.c.number)).scalar_one()
    if number % 50 == 0:
        own = outside_calls.c.connection == row["connection"]
        oldest = connection.execute(select(outside_calls.c.number).where(own).order_by(outside_calls.c.number.desc()).offset(KEPT).limit(1)).scalar()
        if oldest is not None:
            connection.execute(delete(outside_calls).where(own, outside_calls.c.number <= oldest))


def calls_of(connection: Connection, name: str, most: int) -> list[dict[str, Any]]:
    """The latest calls that were made by a connection, the newest first."""
    query = select(outside_calls).where(outside_calls.c.connection == name).order_by(outside_calls.c.number.desc()).limit(most)
    return [dict(row) for row in connection.execute(query).mappings()]
