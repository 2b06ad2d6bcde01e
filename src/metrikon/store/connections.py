"""Connections as stored. Their secrets are sealed; nothing here can open them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import Connection, bindparam, delete, insert, select, update
from sqlalchemy.dialects.sqlite import insert as upsert

from metrikon.store.hot import Hot
from metrikon.store.outside_tables import connections, outside_calls

KEPT = 500  # calls of each connection


def put(connection: Connection, row: Mapping[str, Any]) -> None:
    """Keep a connection, in the place of one of the same name."""
    statement = upsert(connections).values(dict(row))
    changed = {name: statement.excluded[name] for name in row if name != "name"}
    connection.execute(statement.on_conflict_do_update(index_elements=["name"], set_=changed))


_PLAIN = [column for column in connections.c if column.name not in ("description", "notes")]
_GET = Hot(select(*_PLAIN).where(connections.c.name == bindparam("of")))  # for every call that goes out, several times


def get(connection: Connection, name: str) -> dict[str, Any] | None:
    """A connection without what describes its service, or None."""
    rows = _GET.run(connection, {"of": name})
    return dict(zip([column.name for column in _PLAIN], rows[0], strict=True)) if rows else None


def described(connection: Connection, name: str) -> tuple[bytes | None, bytes | None] | None:
    """The description of a connection's service, and the notes of it; None where there is no such connection."""
    row = connection.execute(select(connections.c.description, connections.c.notes).where(connections.c.name == name)).first()
    return (row[0], row[1]) if row is not None else None


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


_NOTE = Hot(
    insert(outside_calls)
    .values({column.name: bindparam(column.name) for column in outside_calls.c if column.name != "number"})
    .returning(outside_calls.c.number)
)


def note_call(connection: Connection, row: Mapping[str, Any]) -> None:
    """Note a call that was made by a connection; the latest of each are kept."""
    number = _NOTE.scalar(connection, row)
    if number % 50 == 0:
        own = outside_calls.c.connection == row["connection"]
        oldest = connection.execute(select(outside_calls.c.number).where(own).order_by(outside_calls.c.number.desc()).offset(KEPT).limit(1)).scalar()
        if oldest is not None:
            connection.execute(delete(outside_calls).where(own, outside_calls.c.number <= oldest))


def calls_of(connection: Connection, name: str, most: int) -> list[dict[str, Any]]:
    """The latest calls that were made by a connection, the newest first."""
    query = select(outside_calls).where(outside_calls.c.connection == name).order_by(outside_calls.c.number.desc()).limit(most)
    return [dict(row) for row in connection.execute(query).mappings()]
