"""Runs: claiming them by lease and epoch, and moving them from state to state."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from sqlalchemy import Connection, and_, bindparam, null, or_, select, update

from metrikon.store import changes
from metrikon.store.hot import Hot
from metrikon.store.tables import paused, runs

SETTLED = ("done", "stopped", "refused")
STATES = ("ready", "running", "waiting", "review", "parked", "held", *SETTLED)


class LeaseLost(Exception):
    """The run was claimed by another worker meanwhile; nothing of this commit was kept."""


FIRST = 1  # the epoch of a run that no one has claimed before: its journal is empty


@dataclass(frozen=True)
class Claim:
    """A run that a worker owns until its lease passes on."""

    run_id: str
    item_id: str
    flow: str
    flow_version: int
    epoch: int
    used_by: str | None = None
    used_at: str | None = None


# statements of the hot path are built once: building one costs more than running it
_WHAT_IS_DUE = (
    select(runs.c.id, runs.c.flow)
    .where(
        or_(
            and_(or_(runs.c.state == "ready", runs.c.state == "waiting", runs.c.state == "review"), runs.c.wake_at <= bindparam("now")),
            and_(runs.c.state == "running", runs.c.lease_until < bindparam("now")),
        ),
        runs.c.flow.not_in(select(paused.c.flow)),
    )
    .order_by(runs.c.wake_at, runs.c.id)
    .limit(bindparam("most"))
)
_DUE = Hot(_WHAT_IS_DUE)
_DUE_BESIDE = _WHAT_IS_DUE.where(runs.c.flow.not_in(bindparam("full", expanding=True)))
_CLAIM = (
    update(runs)
    .where(runs.c.id.in_(bindparam("ids", expanding=True)))
    .values(state="running", owner=bindparam("by"), epoch=runs.c.epoch + 1, lease_until=bindparam("until"), wake_at=bindparam("now"))
    .returning(runs.c.id, runs.c.item_id, runs.c.flow, runs.c.flow_version, runs.c.epoch, runs.c.used_by, runs.c.used_at)
)
_MOVE = Hot(
    update(runs)
    .where(runs.c.id == bindparam("run"))
    .values(
        state=bindparam("to"),
        reason=bindparam("why"),
        wake_at=bindparam("wake"),
        changed_at=bindparam("now"),
        settled_at=bindparam("settled"),
        owner=null(),
        lease_until=null(),
    )
)
_WAKE = (
    update(runs)
    .where(runs.c.id.in_(bindparam("ids", expanding=True)), runs.c.state.in_(("waiting", "parked", "review")))
    .values(state="ready", wake_at=bindparam("now"), changed_at=bindparam("now"))
)
_SPENT = Hot(
    update(runs)
    .where(runs.c.id == bindparam("run"))
    .values(
        calls=runs.c.calls + bindparam("more_calls"),
        input_tokens=runs.c.input_tokens + bindparam("more_in"),
        output_tokens=runs.c.output_tokens + bindparam("more_out"),
    )
)


def claim(
    connection: Connection, owner: str, now: int, lease: int, most: int, held: Mapping[str, int] | None = None, share: int = 1_000_000
) -> list[Claim]:
    """Claim runs that are due, oldest first; runs whose lease has run out count as due.

    `held`: how many runs of each flow are worked on already; no flow gets more than `share` of them, so that a crowd holds nobody up.
    """
    counts = Counter(held or {})
    full = [flow for flow, count in counts.items() if count >= share]
    found: list[str] = []
    while len(found) < most:
        values = {"now": now, "most": most}
        rows = connection.execute(_DUE_BESIDE, {**values, "full": full}).all() if full else _DUE.run(connection, values)
        fresh = [(run, flow) for run, flow in rows if run not in found]
        before = len(full)
        for run, flow in fresh:
            if counts[flow] < share and len(found) < most:
                found.append(run)
                counts[flow] += 1
            elif flow not in full:
                full.append(flow)
        if len(full) == before or not fresh:
            break  # nobody was turned away, so there is nobody else
    if not found:
        return []
    claimed = connection.execute(_CLAIM, {"ids": found, "by": owner, "until": now + lease, "now": now}).all()
    return [Claim(*row) for row in sorted(claimed, key=lambda row: str(row[0]))]


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
    settled = at if state in SETTLED else None
    _MOVE.run(connection, {"run": run_id, "to": state, "why": reason, "wake": wake_at, "now": at, "settled": settled})
    changes.note(connection, "run", [run_id], at)


def wake(connection: Connection, run_ids: Sequence[str], at: int) -> None:
    """Make waiting runs due; a run that is being worked on notices by itself."""
    for start in range(0, len(run_ids), 500):
        connection.execute(_WAKE, {"ids": list(run_ids[start : start + 500]), "now": at})
    changes.note(connection, "run", run_ids, at)


def spent(connection: Connection, run_id: str, calls: int, input_tokens: int, output_tokens: int, cost: Decimal) -> None:
    """Add what a model call cost."""
    values = {"run": run_id, "more_calls": calls, "more_in": input_tokens, "more_out": output_tokens}
    _SPENT.run(connection, values)
    if cost:
        before = connection.execute(select(runs.c.cost).where(runs.c.id == run_id)).scalar_one()
        connection.execute(update(runs).where(runs.c.id == run_id).values(cost=str(Decimal(before) + cost)))


def get(connection: Connection, run_id: str) -> dict[str, Any] | None:
    """A run; None when there is none."""
    row = connection.execute(select(runs).where(runs.c.id == run_id)).mappings().first()
    return dict(row) if row else None


def latest(connection: Connection, item_id: str) -> dict[str, Any] | None:
    """The latest run of an item that no step of another run uses."""
    query = select(runs).where(runs.c.item_id == item_id, runs.c.used_by.is_(None)).order_by(runs.c.id.desc()).limit(1)
    row = connection.execute(query).mappings().first()
    return dict(row) if row else None


def unsettled(connection: Connection, flow: str, most: int) -> list[str]:
    """Runs of a flow that have not settled."""
    return list(
        connection.execute(select(runs.c.id).where(runs.c.flow == flow, runs.c.state.not_in(SETTLED)).order_by(runs.c.id).limit(most)).scalars()
    )


def used_by(connection: Connection, run_id: str, path: str) -> str | None:
    """The run that a step of a run uses and that has not settled; None when there is none."""
    query = select(runs.c.id).where(runs.c.used_by == run_id, runs.c.used_at == path, runs.c.state.not_in(SETTLED)).order_by(runs.c.id.desc())
    found = connection.execute(query.limit(1)).scalar()
    return None if found is None else str(found)


def using(connection: Connection, run_id: str) -> list[str]:
    """The runs that the steps of a run use and that have not settled."""
    return list(connection.execute(select(runs.c.id).where(runs.c.used_by == run_id, runs.c.state.not_in(SETTLED))).scalars())


def depth(connection: Connection, run_id: str) -> int:
    """How many runs a run is used by, one by the other."""
    count, at = 0, connection.execute(select(runs.c.used_by).where(runs.c.id == run_id)).scalar()
    while at is not None and count < 100:
        count += 1
        at = connection.execute(select(runs.c.used_by).where(runs.c.id == at)).scalar()
    return count


def given(connection: Connection, run_id: str) -> bytes | None:
    """What a step that uses a run has given it, as JSON."""
    found: bytes | None = connection.execute(select(runs.c.given).where(runs.c.id == run_id)).scalar()
    return found
