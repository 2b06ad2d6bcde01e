"""Runs: claiming them by lease and epoch, and moving them from state to state."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from sqlalchemy import Connection, and_, or_, select, update

from metrikon.store import changes
from metrikon.store.tables import runs

SETTLED = ("done", "stopped", "refused")
STATES = ("ready", "running", "waiting", "review", "parked", "held", *SETTLED)


class LeaseLost(Exception):
    """The run was claimed by another worker meanwhile; nothing of this commit was kept."""


@dataclass(frozen=True)
class Claim:
    """A run that a worker owns until its lease passes on."""

    run_id: str
    item_id: str
    flow: str
    flow_version: int
    epoch: int


def claim(connection: Connection, owner: str, now: int, lease: int, most: int) -> list[Claim]:
    """Claim runs that are due, oldest first; runs whose lease has run out count as due."""
    due = or_(
        and_(runs.c.state.in_(("ready", "waiting")), runs.c.wake_at <= now),
        and_(runs.c.state == "running", runs.c.lease_until < now),
    )
    found = connection.execute(select(runs.c.id).where(due).order_by(runs.c.wake_at, runs.c.id).limit(most)).scalars().all()
    if not found:
        return []
    rows = connection.execute(
        update(runs)
        .where(runs.c.id.in_(found))
        .values(state="running", owner=owner, epoch=runs.c.epoch + 1, lease_until=now + lease, wake_at=now)
        .returning(runs.c.id, runs.c.item_id, runs.c.flow, runs.c.flow_version, runs.c.epoch)
    ).all()
    return [Claim(*row) for row in sorted(rows)]


def renew(connection: Connection, claims: Sequence[Claim], until: int) -> None:
    """Lengthen leases; those that passed on meanwhile stay passed on."""
    for each in claims:
        connection.execute(
            update(runs).where(runs.c.id == each.run_id, runs.c.epoch == each.epoch, runs.c.state == "running").values(lease_until=until)
        )


def hold_lease(connection: Connection, claim: Claim) -> int:
    """The number of journal entries of a claimed run. Raises `LeaseLost` when it is not ours any more."""
    query = select(runs.c.entries).where(runs.c.id == claim.run_id, runs.c.epoch == claim.epoch, runs.c.state == "running")
    entries = connection.execute(query).scalar()
    if entries is None:
        raise LeaseLost(claim.run_id)
    return int(entries)


def release_all(connection: Connection, now: int) -> int:
    """Make every claimed run due again: for the start of the only process that may claim them."""
    result = connection.execute(update(runs).where(runs.c.state == "running").values(state="ready", owner=None, wake_at=now, lease_until=None))
    return int(result.rowcount)


def move(connection: Connection, run_id: str, state: str, at: int, reason: str = "", wake_at: int | None = None) -> None:
    """Put a run into a state."""
    values: dict[str, Any] = {"state": state, "reason": reason, "wake_at": wake_at, "changed_at": at, "owner": None, "lease_until": None}
    if state in SETTLED:
        values["settled_at"] = at
    connection.execute(update(runs).where(runs.c.id == run_id).values(values))
    changes.note(connection, "run", [run_id], at)


def wake(connection: Connection, run_ids: Sequence[str], at: int) -> None:
    """Make waiting runs due; a run that is being worked on notices by itself."""
    for start in range(0, len(run_ids), 500):
        part = run_ids[start : start + 500]
        connection.execute(
            update(runs)
            .where(runs.c.id.in_(part), runs.c.state.in_(("waiting", "parked", "review")))
            .values(state="ready", wake_at=at, changed_at=at)
        )
    changes.note(connection, "run", run_ids, at)


def spent(connection: Connection, run_id: str, calls: int, input_tokens: int, output_tokens: int, cost: Decimal) -> None:
    """Add what a model call cost."""
    before = connection.execute(select(runs.c.cost).where(runs.c.id == run_id)).scalar_one()
    connection.execute(
        update(runs)
        .where(runs.c.id == run_id)
        .values(
            calls=runs.c.calls + calls,
            input_tokens=runs.c.input_tokens + input_tokens,
            output_tokens=runs.c.output_tokens + output_tokens,
            cost=str(Decimal(before) + cost),
        )
    )
