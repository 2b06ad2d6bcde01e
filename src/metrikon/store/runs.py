"""Runs, moved from state to state."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from typing import Any

from sqlalchemy import Connection, bindparam, null, select, update

from metrikon.store import changes
from metrikon.store.hot import Hot
from metrikon.store.tables import items, runs

FIRST = 1  # the epoch of a run that no one has claimed before: its journal is empty
SETTLED = ("done", "stopped", "refused")
STATES = ("ready", "running", "waiting", "review", "parked", "held", *SETTLED)


# statements of the hot path are built once: building one costs more than running it
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
_END = Hot(  # of a run that no worker has, and of which nobody waits for the end
    update(runs)
    .where(runs.c.id == bindparam("run"), runs.c.state == "waiting", runs.c.used_by.is_(None))
    .values(state=bindparam("to"), reason=bindparam("why"), wake_at=null(), changed_at=bindparam("now"), settled_at=bindparam("now"))
    .returning(runs.c.id)
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


def move(connection: Connection, run_id: str, state: str, at: int, reason: str = "", wake_at: int | None = None) -> None:
    """Put a run into a state."""
    settled = at if state in SETTLED else None
    _MOVE.run(connection, {"run": run_id, "to": state, "why": reason, "wake": wake_at, "now": at, "settled": settled})
    changes.note(connection, "run", [run_id], at)


def held_for(connection: Connection, flow: str, reason: str) -> list[str]:
    """Runs of a flow (of all with an empty name) that are held for a reason that begins so, oldest first."""
    query = select(runs.c.id).where(runs.c.state == "held", runs.c.reason.startswith(reason, autoescape=True)).order_by(runs.c.id)
    return list(connection.execute(query.where(runs.c.flow == flow) if flow else query).scalars())


def end_waiting(connection: Connection, run_id: str, state: str, reason: str, at: int) -> bool:
    """Settle a run that waits; whether it did, and no other run uses it."""
    ended = bool(_END.run(connection, {"run": run_id, "to": state, "why": reason, "now": at}))
    if ended:
        changes.note(connection, "run", [run_id], at)
    return ended


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


def shown(connection: Connection, run_id: str) -> dict[str, Any] | None:
    """A run with the name and the file of its item; None when there is none."""
    query = select(runs, items.c.name.label("item_name"), items.c.sha256).join(items, items.c.id == runs.c.item_id).where(runs.c.id == run_id)
    row = connection.execute(query).mappings().first()
    return dict(row) if row else None


def files_of(connection: Connection, run_ids: Sequence[str]) -> list[str]:
    """The hashes of the files that runs are about."""
    query = select(items.c.sha256).join(runs, items.c.id == runs.c.item_id).where(runs.c.id.in_(run_ids))
    return list(connection.execute(query).scalars())


def parked(connection: Connection, reason: str = "") -> list[str]:
    """Runs that are parked, those alone whose reason has this in it."""
    query = select(runs.c.id).where(runs.c.state == "parked")
    return list(connection.execute(query.where(runs.c.reason.contains(reason, autoescape=True)) if reason else query).scalars())


def begun_before(connection: Connection, run_id: str) -> None:
    """A new run has a journal already: it is read when the run is claimed."""
    connection.execute(update(runs).where(runs.c.id == run_id).values(epoch=FIRST))


def told_why(connection: Connection, run_id: str, reason: str) -> None:
    """Why a run waits is told."""
    connection.execute(update(runs).where(runs.c.id == run_id, runs.c.state == "waiting").values(reason=reason))


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


def above(connection: Connection, run_id: str) -> str:
    """The paths of the steps by which a run is used, the outermost first, each with a stroke behind it; nothing for one that no step uses."""
    found, at = "", connection.execute(select(runs.c.used_by, runs.c.used_at).where(runs.c.id == run_id)).first()
    while at is not None and at[0] is not None and found.count("/") < 100:
        found = f"{at[1]}/{found}"
        at = connection.execute(select(runs.c.used_by, runs.c.used_at).where(runs.c.id == at[0])).first()
    return found


def given(connection: Connection, run_id: str) -> bytes | None:
    """What a step that uses a run has given it, as JSON."""
    found: bytes | None = connection.execute(select(runs.c.given).where(runs.c.id == run_id)).scalar()
    return found
