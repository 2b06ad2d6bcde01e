"""The feed of changes that the live view asks for."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from sqlalchemy import Connection, bindparam, delete, func, insert, select

from metrikon.store.hot import Hot
from metrikon.store.tables import changes

KEPT = 50_000  # entries; who asks for older ones must load anew
_NOTE = Hot(insert(changes).values(kind=bindparam("kind"), ref=bindparam("ref"), at=bindparam("at")).inline())
_AFTER = select(changes).where(changes.c.number > bindparam("after")).order_by(changes.c.number).limit(bindparam("most"))
_FIRST = select(func.min(changes.c.number))
_LAST = select(func.max(changes.c.number))


def note(connection: Connection, kind: str, refs: Iterable[str], at: int) -> None:
    """Note that things of a kind ("run", "record", "flow") changed."""
    rows = [{"kind": kind, "ref": ref, "at": at} for ref in dict.fromkeys(refs)]
    if rows:
        _NOTE.many(connection, rows)


def after(connection: Connection, number: int, most: int = 500) -> dict[str, Any]:
    """Changes after a number: {"last": number to ask with next, "changes": [...], "gap": whether some are gone}."""
    rows = connection.execute(_AFTER, {"after": number, "most": most}).mappings().all()
    first = connection.execute(_FIRST).scalar() or 0
    last = rows[-1]["number"] if rows else max(number, 0)
    return {"last": last, "changes": [dict(row) for row in rows], "gap": 0 < number < first - 1}


def latest(connection: Connection) -> int:
    """The number of the newest change."""
    return int(connection.execute(_LAST).scalar() or 0)


def prune(connection: Connection) -> None:
    """Drop entries beyond the number kept."""
    connection.execute(delete(changes).where(changes.c.number <= latest(connection) - KEPT))
