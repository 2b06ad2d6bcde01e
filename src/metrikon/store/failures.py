"""Failures for good, each cause of a flow once while it lasts: from when its run is parked until that run goes on."""

from __future__ import annotations

from sqlalchemy import ColumnElement, Connection, func, insert, select, update

from metrikon.core.flows.failing import Failure
from metrikon.core.values.text import clean
from metrikon.store.tables import failures, items

LONGEST = 2000  # characters of a message
_OPEN = failures.c.over_at.is_(None)


def note(connection: Connection, failure: Failure, at: int) -> bool:
    """Note a failure. True: nothing is told yet of its cause; else it is counted beside the one that was told."""
    told = (failures.c.flow == failure.flow, failures.c.cause == failure.cause, _OPEN)
    known = connection.execute(select(failures.c.id, failures.c.run_id).where(*told)).first()
    if known is not None:
        more = 0 if known.run_id == failure.run_id else 1
        connection.execute(update(failures).where(failures.c.id == known.id).values(count=failures.c.count + more))
        return False
    values = {name: getattr(failure, name) for name in ("flow", "run_id", "item_id", "path", "cause", "attempts", "own")}
    connection.execute(insert(failures).values(**values, message=clean(failure.message)[:LONGEST], at=at, count=1))
    return True


def over(connection: Connection, run_id: str, at: int) -> None:
    """A run goes on, or has come to its end: what was told of it is over."""
    connection.execute(update(failures).where(failures.c.run_id == run_id, _OPEN).values(over_at=at))


def last(connection: Connection) -> int:
    """The number of the last failure; 0 where there is none."""
    return int(connection.execute(select(func.max(failures.c.id))).scalar() or 0)


def after(connection: Connection, number: int, most: int) -> list[Failure]:
    """Failures behind a number, in their order."""
    return _found(connection, failures.c.id > number, failures.c.id, most)


def latest(connection: Connection, most: int) -> list[Failure]:
    """The last failures, newest first."""
    return _found(connection, failures.c.id > 0, failures.c.id.desc(), most)


def _found(connection: Connection, where: ColumnElement[bool], order: ColumnElement[int], most: int) -> list[Failure]:
    query = select(failures, items.c.name).join(items, items.c.id == failures.c.item_id).where(where).order_by(order).limit(most)
    return [
        Failure(row.flow, row.run_id, row.item_id, row.path, row.message, row.attempts, row.id, row.at, row.name, row.own)
        for row in connection.execute(query)
    ]
