"""Events that are sent to flows, and the steps that wait for them."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection, delete, insert, select, update

from metrikon.core.values.exact import dumps, loads
from metrikon.store.tables import event_waits, events

LONGEST_KEY = 200  # characters


class OtherEvent(Exception):
    """What was sent under an identity before was something else."""


def send(connection: Connection, event_id: str, flow: str, key: str, identity: str, data: Any, at: int) -> list[tuple[str, str]] | None:
    """Keep an event; the steps that wait for it, by run and path, have it then. None for one that was sent before. Raises `OtherEvent`."""
    known = connection.execute(select(events.c.key, events.c.data).where(events.c.flow == flow, events.c.identity == identity)).first()
    if known is not None:
        if (known.key, loads(known.data)) != (key, loads(dumps(data))):
            raise OtherEvent(f"Under the identity {identity!r} another event was sent before. Send it under an identity of its own.")
        return None
    waits = connection.execute(select(event_waits.c.run_id, event_waits.c.path).where(event_waits.c.flow == flow, event_waits.c.key == key)).all()
    row = {"id": event_id, "flow": flow, "key": key, "identity": identity, "data": dumps(data), "at": at, "taken": bool(waits)}
    connection.execute(insert(events).values(row))
    for run_id, path in waits:
        unheard(connection, run_id, path)
    return [(run_id, path) for run_id, path in waits]


def listen(connection: Connection, run_id: str, path: str, flow: str, key: str) -> dict[str, Any] | None:
    """A step waits for an event with a key; one that came before and that no step has had is given at once."""
    query = select(events.c.id, events.c.data).where(events.c.flow == flow, events.c.key == key[:LONGEST_KEY], events.c.taken.is_(False))
    found = connection.execute(query.order_by(events.c.id).limit(1)).first()
    if found is not None:
        connection.execute(update(events).where(events.c.id == found.id).values(taken=True))
        return {"data": loads(found.data)}
    unheard(connection, run_id, path)
    connection.execute(insert(event_waits).values(run_id=run_id, path=path, flow=flow, key=key[:LONGEST_KEY]))
    return None


def unheard(connection: Connection, run_id: str, path: str | None = None) -> None:
    """A run, or a step of it, waits for no event any more."""
    condition = event_waits.c.run_id == run_id
    connection.execute(delete(event_waits).where(condition & (event_waits.c.path == path) if path is not None else condition))
