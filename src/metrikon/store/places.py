"""Places that an admin allowed flows to touch, besides those of the service's folder."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection, delete, insert, select

from metrikon.store.tables import places


def allow(connection: Connection, place: str, why: str, by: str, at: int) -> None:
    """Allow a place."""
    connection.execute(delete(places).where(places.c.place == place))
    connection.execute(insert(places), [{"place": place, "why": why, "by": by, "at": at}])


def refuse(connection: Connection, place: str) -> bool:
    """Allow a place no longer; whether it was."""
    return bool(connection.execute(delete(places).where(places.c.place == place)).rowcount)


def all_places(connection: Connection) -> list[dict[str, Any]]:
    """The places that are allowed so."""
    return [dict(row) for row in connection.execute(select(places).order_by(places.c.place)).mappings()]
