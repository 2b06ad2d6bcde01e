"""Items and the runs that they start."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import Connection, insert, select

from metrikon.store import changes
from metrikon.store.tables import items, runs


@dataclass(frozen=True)
class Arrival:
    """What came in: its identity tells it from others of its intake, its hash what it holds."""

    flow: str
    flow_version: int
    intake: str
    identity: str
    sha256: str
    name: str
    size: int


@dataclass(frozen=True)
class Arrived:
    """The answer to the sender: the same again when it sends again."""

    item_id: str
    run_id: str
    known: bool
    held: bool


def arrive(connection: Connection, arrival: Arrival, ids: tuple[str, str], at: int) -> Arrived:
    """Take an item in and start its run, in one transaction; a known identity changes nothing.

    Equal content under another identity is a likely repeat: its run is held until a person says so.
    """
    same = select(items.c.id).where(items.c.flow == arrival.flow, items.c.intake == arrival.intake, items.c.identity == arrival.identity)
    known = connection.execute(same).scalar()
    if known is not None:
        run = connection.execute(select(runs.c.id, runs.c.state).where(runs.c.item_id == known).order_by(runs.c.id).limit(1)).one()
        return Arrived(known, run.id, True, run.state == "held")
    twin = connection.execute(
        select(items.c.name).where(items.c.flow == arrival.flow, items.c.sha256 == arrival.sha256).order_by(items.c.id).limit(1)
    ).scalar()
    item_id, run_id = ids
    row = {
        "id": item_id,
        "flow": arrival.flow,
        "intake": arrival.intake,
        "identity": arrival.identity,
        "sha256": arrival.sha256,
        "name": arrival.name,
        "size": arrival.size,
        "received_at": at,
    }
    connection.execute(insert(items), [row])
    reason = f"Its content is the same as that of {twin}. Run it anyway if both are meant." if twin else ""
    start_run(connection, run_id, item_id, arrival.flow, arrival.flow_version, at, held=reason)
    return Arrived(item_id, run_id, False, bool(twin))


def start_run(connection: Connection, run_id: str, item_id: str, flow: str, version: int, at: int, held: str = "") -> None:
    """A new run, ready at once or held with a reason."""
    row = {
        "id": run_id,
        "item_id": item_id,
        "flow": flow,
        "flow_version": version,
        "state": "held" if held else "ready",
        "reason": held,
        "wake_at": None if held else at,
        "epoch": 0,
        "entries": 0,
        "created_at": at,
        "changed_at": at,
        "calls": 0,
        "input_tokens": 0,
        "output_tokens": 0,
        "cost": "0",
    }
    connection.execute(insert(runs), [row])
    changes.note(connection, "run", [run_id], at)
