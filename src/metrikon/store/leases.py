"""Claiming runs by lease and epoch. No crowd holds up the others: a flow gets no more than its share of workers, a back-fill comes after what is new."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from sqlalchemy import CompoundSelect, Connection, Select, Text, and_, bindparam, column, func, or_, select, union_all, update

from metrikon.core.values.exact import dumps
from metrikon.store.hot import Hot
from metrikon.store.tables import paused, runs


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
    used_by: str | None = None
    used_at: str | None = None
    behind: bool = False  # a back-fill: it comes after what is new
    given: bool = False  # whether something is given to it: by the step that uses it, or by who runs it again


# statements of the hot path are built once: building one costs more than running it
def _among(name: str) -> Select[tuple[str]]:
    """The texts of a parameter that is a JSON list of them."""
    return select(func.json_each(bindparam(name, type_=Text)).table_valued(column("value", Text)).c.value)


def _texts(names: Sequence[str]) -> str:
    return dumps(names).decode()


def _due() -> CompoundSelect[tuple[str, str]]:
    """Runs that are due, by the time that they were begun: what is under way ends before more is begun. `full`: flows that get no more."""
    asleep = runs.c.flow.in_(select(paused.c.flow)) | runs.c.flow.in_(_among("full"))
    these = select(runs.c.id, runs.c.flow).where(runs.c.behind == bindparam("behind"), ~asleep)
    ready = these.where(runs.c.state == "ready")  # whatever the clock says: it may have been set back
    timed = these.where(
        or_(
            and_(or_(runs.c.state == "waiting", runs.c.state == "review"), runs.c.wake_at <= bindparam("now")),
            and_(runs.c.state == "running", runs.c.lease_until < bindparam("now")),
        )
    )
    first = [select(each.order_by(runs.c.id).limit(bindparam("most")).subquery()) for each in (ready, timed)]
    return union_all(*first).order_by("id").limit(bindparam("most"))


_DUE = Hot(_due())
_CLAIM = Hot(
    update(runs)
    .where(runs.c.id.in_(_among("ids")))
    .values(state="running", owner=bindparam("by"), epoch=runs.c.epoch + 1, lease_until=bindparam("until"), wake_at=bindparam("now"))
    .returning(
        runs.c.id,
        runs.c.item_id,
        runs.c.flow,
        runs.c.flow_version,
        runs.c.epoch,
        runs.c.used_by,
        runs.c.used_at,
        runs.c.behind,
        runs.c.given.is_not(None),
    )
)

_RENEW = Hot(
    update(runs)
    .where(runs.c.id == bindparam("run"), runs.c.epoch == bindparam("lease"), runs.c.state == "running")
    .values(lease_until=bindparam("until"))
)


@dataclass(frozen=True)
class Shares:
    """How runs are handed out. `each`: of one flow at once at most, and of all back-fills together; `flows`: flows that set a lower limit themselves."""

    each: int = 1_000_000
    flows: Mapping[str, int] = field(default_factory=dict)

    def of(self, flow: str) -> int:
        """How many runs of a flow are worked on at once."""
        return min(self.each, self.flows.get(flow) or self.each)


def claim(
    connection: Connection, owner: str, now: int, lease: int, most: int, held: Sequence[Claim] = (), shares: Shares | None = None
) -> list[Claim]:
    """Claim runs that are due, oldest first, back-fills last; runs whose lease has run out count as due. `held`: what is worked on already."""
    share = shares or Shares()
    counts = Counter(each.flow for each in held)
    found: list[str] = []
    _choose(connection, now, most, counts, share, found)
    crowd = sum(each.behind for each in held)
    _choose(connection, now, min(most, len(found) + max(0, share.each - crowd)), counts, share, found, behind=True)
    if not found:
        return []
    claimed = _CLAIM.run(connection, {"ids": _texts(found), "by": owner, "until": now + lease, "now": now})
    return [
        Claim(run, item, flow, version, epoch, used_by, used_at, bool(behind), bool(given))
        for run, item, flow, version, epoch, used_by, used_at, behind, given in sorted(claimed, key=lambda row: str(row[0]))
    ]


def _choose(connection: Connection, now: int, most: int, counts: Counter[str], share: Shares, found: list[str], *, behind: bool = False) -> None:
    """Add runs that are due to those that were found, up to so many in all; no flow gets more than its share."""
    full = [flow for flow, count in counts.items() if count >= share.of(flow)]
    while len(found) < most:
        rows = _DUE.run(connection, {"now": now, "most": most, "behind": behind, "full": _texts(full)})
        fresh = [(run, flow) for run, flow in rows if run not in found]
        before = len(full)
        for run, flow in fresh:
            if counts[flow] < share.of(flow) and len(found) < most:
                found.append(run)
                counts[flow] += 1
            elif flow not in full:
                full.append(flow)
        if len(full) == before or not fresh:
            break  # nobody was turned away, so there is nobody else


def renew(connection: Connection, claims: Sequence[Claim], until: int) -> None:
    """Lengthen leases; those that passed on meanwhile stay passed on."""
    _RENEW.many(connection, [{"run": each.run_id, "lease": each.epoch, "until": until} for each in claims])


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
