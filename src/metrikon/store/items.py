"""Items and the runs that they start."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, bindparam, func, insert, select, update

from metrikon.core.flows.coming import Repeats
from metrikon.core.values.exact import dumps
from metrikon.store import changes
from metrikon.store.hot import Hot
from metrikon.store.tables import items, runs

REPEAT = "Its content is the same as that of "  # how the reason of a likely repeat begins
LONGEST = 200  # characters of an identity


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
    data: bytes | None = None  # what its intake knows of it, as JSON
    body: bytes | None = None  # its bytes, where they are kept in its row and in no file
    repeats: Repeats = "hold"  # what becomes of it where an earlier one of its flow holds the same
    depth: int = 0  # by how many flows it went before


@dataclass(frozen=True)
class Arrived:
    """The answer to the sender: the same again when it sends again."""

    item_id: str
    run_id: str
    known: bool
    held: bool


class OtherContent(Exception):
    """What was sent under an identity before held something else; the message says what."""

    def __init__(self, name: str, item_id: str) -> None:
        super().__init__(
            f"Under this identity {name} (item {item_id}) was sent before, which holds something else. Nothing was taken in. "
            "Send it under an identity of its own."
        )
        self.item_id = item_id


_SAME = Hot(
    select(items.c.id, items.c.sha256, items.c.identity, items.c.name).where(
        items.c.flow == bindparam("of_flow"),
        items.c.intake == bindparam("of_intake"),
        items.c.identity.in_((bindparam("of_identity"), bindparam("forgotten_as"))),
    )
)
_TWIN = Hot(select(items.c.name).where(items.c.flow == bindparam("of_flow"), items.c.sha256 == bindparam("of_sha256")).order_by(items.c.id).limit(1))
_ITEM = Hot(insert(items).inline())
_RUN = Hot(insert(runs).inline())


def deepest(connection: Connection, run_ids: Sequence[str]) -> int:
    """The greatest depth of the items of some runs."""
    wanted = select(func.max(items.c.depth)).join(runs, runs.c.item_id == items.c.id).where(runs.c.id.in_(list(run_ids)[:500]))
    return int(connection.execute(wanted).scalar() or 0)


def shortened(identity: str) -> str:
    """An identity as it is kept: the beginning and a hash of one that is too long."""
    return identity if len(identity) <= LONGEST else f"{identity[:100]} {hashlib.sha256(identity.encode()).hexdigest()}"


def arrive(connection: Connection, arrival: Arrival, ids: tuple[str, str], at: int) -> Arrived:
    """Take an item in and start its run, in one transaction; a known identity changes nothing.

    Equal content under another identity is a likely repeat: its run is held until a person says so, ends at once, or goes on, as its intake says. Raises `OtherContent`.
    """
    same = _SAME.run(
        connection,
        {"of_flow": arrival.flow, "of_intake": arrival.intake, "of_identity": arrival.identity, "forgotten_as": known_as(arrival.identity)},
    )
    if same:
        known, sha256, identity, name = same[0]
        if sha256 != arrival.sha256 and identity == arrival.identity:  # what was forgotten is known by its identity alone
            raise OtherContent(name, known)
        run = connection.execute(select(runs.c.id, runs.c.state).where(runs.c.item_id == known).order_by(runs.c.id).limit(1)).one()
        return Arrived(known, run.id, True, run.state == "held")
    twin = _TWIN.scalar(connection, {"of_flow": arrival.flow, "of_sha256": arrival.sha256}) if arrival.repeats != "take" else None
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
        "data": arrival.data,
        "body": arrival.body,
        "depth": arrival.depth,
    }
    _ITEM.run(connection, row)
    held = arrival.repeats == "hold" and twin is not None
    start_run(
        connection, run_id, item_id, arrival.flow, arrival.flow_version, at, held=f"{REPEAT}{twin}. Run it anyway if both are meant." if held else ""
    )
    if twin is not None and not held:
        reason = f"{REPEAT}{twin}, and its flow lets such repeats go. Run it again if both are meant."
        connection.execute(update(runs).where(runs.c.id == run_id).values(state="stopped", reason=reason, settled_at=at))
    return Arrived(item_id, run_id, False, held)


def hold_the_same(connection: Connection, flow: str, intake: str, outer: str, held: Mapping[str, str]) -> None:
    """Whether what came in under an identity and places within it (`outer`, `outer/1`, …) is what it holds now: hashes by identity.

    Raises `OtherContent` for another one; what was not taken in yet is no difference, since taking in may have been interrupted.
    """
    within = items.c.identity.startswith(f"{outer}/", autoescape=True) | (items.c.identity == outer)
    query = select(items.c.id, items.c.identity, items.c.sha256, items.c.name).where(items.c.flow == flow, items.c.intake == intake, within)
    for row in connection.execute(query.order_by(items.c.id)):
        if held.get(row.identity) != row.sha256:
            raise OtherContent(row.name, row.id)


def known_as(identity: str) -> str:
    """What is left of an identity when its item was forgotten: enough that it is not taken in again."""
    return f"forgotten-{hashlib.sha256(identity.encode()).hexdigest()}"


_COLUMNS = ("id", "sha256", "name", "intake", "received_at", "data")
_GET = Hot(select(*(items.c[name] for name in _COLUMNS)).where(items.c.id == bindparam("of")))


def get(connection: Connection, item_id: str) -> dict[str, Any]:
    """What a run needs to know of its item."""
    (row,) = _GET.run(connection, {"of": item_id})
    return dict(zip(_COLUMNS, row, strict=True))


def whole(connection: Connection, item_id: str) -> dict[str, Any] | None:
    """An item; None when there is none."""
    row = connection.execute(select(items).where(items.c.id == item_id)).mappings().first()
    return dict(row) if row else None


def body(connection: Connection, sha256: str) -> bytes | None:
    """The bytes of an item that are kept in its row."""
    query = select(items.c.body).where(items.c.sha256 == sha256, items.c.body.is_not(None)).limit(1)
    found: bytes | None = connection.execute(query).scalar()
    return found


def with_content(connection: Connection, flow: str, sha256: str) -> str | None:
    """The first item of a flow with this content."""
    found: str | None = connection.execute(
        select(items.c.id).where(items.c.flow == flow, items.c.sha256 == sha256).order_by(items.c.id).limit(1)
    ).scalar()
    return found


def start_run(
    connection: Connection,
    run_id: str,
    item_id: str,
    flow: str,
    version: int,
    at: int,
    held: str = "",
    *,
    used_by: tuple[str, str] | None = None,
    given: Any = None,
    behind: bool = False,
) -> None:
    """A new run, ready at once or held with a reason. `used_by`: the run and path of the step that uses it, `given`: what that step gives it. `behind`: a back-fill, which comes after what is new."""
    row = {
        "id": run_id,
        "item_id": item_id,
        "flow": flow,
        "flow_version": version,
        "state": "held" if held else "ready",
        "reason": held,
        "wake_at": None if held else at,
        "owner": None,
        "lease_until": None,
        "settled_at": None,
        "epoch": 0,
        "entries": 0,
        "created_at": at,
        "changed_at": at,
        "calls": 0,
        "input_tokens": 0,
        "output_tokens": 0,
        "cost": "0",
        "used_by": used_by[0] if used_by else None,
        "used_at": used_by[1] if used_by else None,
        "given": dumps(given) if given is not None else None,
        "forgotten_at": None,
        "behind": behind,
    }
    _RUN.run(connection, row)
    changes.note(connection, "run", [run_id], at)
