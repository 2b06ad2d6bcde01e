"""Where the intakes of flows stand: their cursors, what they have taken and let go, whether they may take what is there."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from typing import Any

from sqlalchemy import Connection, bindparam, delete, func, select, update
from sqlalchemy.dialects.sqlite import insert as upsert

from metrikon.core.values.exact import dumps
from metrikon.store.hot import Hot
from metrikon.store.outside_tables import intakes, let_go
from metrikon.store.tables import items

MOST_LET_GO = 1000  # that are listed of each intake
WITH_BODY = 20  # of which what came is kept


def get(connection: Connection, flow: str, name: str) -> dict[str, Any] | None:
    """Where an intake stands, or None."""
    row = connection.execute(select(intakes).where(intakes.c.flow == flow, intakes.c.name == name)).mappings().first()
    return dict(row) if row else None


def at_address(connection: Connection, address: str) -> dict[str, Any] | None:
    """The intake that has an address, or None."""
    row = connection.execute(select(intakes).where(intakes.c.address == address)).mappings().first()
    return dict(row) if row else None


def sealed(connection: Connection) -> list[dict[str, Any]]:
    """Intakes that have a secret."""
    return [dict(row) for row in connection.execute(select(intakes).where(intakes.c.sealed.is_not(None))).mappings()]


def put(connection: Connection, row: Mapping[str, Any]) -> None:
    """Keep where an intake stands anew."""
    statement = upsert(intakes).values(dict(row))
    connection.execute(statement.on_conflict_do_update(index_elements=["flow", "name"], set_={name: statement.excluded[name] for name in row}))


def change(connection: Connection, flow: str, name: str, **columns: Any) -> None:
    """Change columns of it."""
    connection.execute(update(intakes).where(intakes.c.flow == flow, intakes.c.name == name).values(columns))


_TAKEN = Hot(update(intakes).where(intakes.c.flow == bindparam("of_flow"), intakes.c.name == bindparam("of_name")).values(taken=intakes.c.taken + 1))
_CURSOR = Hot(
    update(intakes)
    .where(intakes.c.flow == bindparam("of_flow"), intakes.c.name == bindparam("of_name"))
    .values(cursor=bindparam("new_cursor"), taken=intakes.c.taken + bindparam("more"))
)


def took(connection: Connection, flow: str, name: str, cursor: Any, count: int) -> None:
    """Note that things were taken, and where the intake stands now."""
    if cursor is None:
        if count:
            _TAKEN.run(connection, {"of_flow": flow, "of_name": name})
    else:
        _CURSOR.run(connection, {"of_flow": flow, "of_name": name, "new_cursor": dumps(cursor), "more": count})


def failing(connection: Connection) -> list[dict[str, Any]]:
    """Intakes that fail, those that fail for longest first."""
    query = select(intakes).where(intakes.c.failing_since.is_not(None)).order_by(intakes.c.failing_since)
    return [dict(row) for row in connection.execute(query).mappings()]


def waiting(connection: Connection) -> list[dict[str, Any]]:
    """Intakes that wait for a yes."""
    return [dict(row) for row in connection.execute(select(intakes).where(intakes.c.would.is_not(None))).mappings()]


def ever(connection: Connection, flow: str, name: str) -> bool:
    """Whether an intake has taken anything."""
    return connection.execute(select(items.c.id).where(items.c.flow == flow, items.c.intake == name).limit(1)).first() is not None


def known(connection: Connection, flow: str, name: str, identities: Collection[str]) -> set[str]:
    """Those of some identities that were taken."""
    query = select(items.c.identity).where(items.c.flow == flow, items.c.intake == name, items.c.identity.in_(identities))
    return set(connection.execute(query).scalars())


def note_let_go(connection: Connection, flow: str, name: str, rows: Sequence[Mapping[str, Any]], cursor: Any) -> None:
    """Note what was let go, each once, and where the intake stands now."""
    fresh = 0
    for row in rows:
        statement = upsert(let_go).values({**row, "flow": flow, "intake": name})
        fresh += connection.execute(statement.on_conflict_do_nothing()).rowcount
    changed: dict[str, Any] = {"let_go": intakes.c.let_go + fresh}
    if cursor is not None:
        changed["cursor"] = dumps(cursor)
    change(connection, flow, name, **changed)
    if fresh:
        forget_oldest(connection, flow, name)
    if any(row.get("body") is not None for row in rows):
        own = (let_go.c.flow == flow, let_go.c.intake == name)
        held = select(let_go.c.identity).where(*own, let_go.c.body.is_not(None)).order_by(let_go.c.at.desc(), let_go.c.identity).limit(WITH_BODY)
        connection.execute(update(let_go).where(*own, let_go.c.body.is_not(None), let_go.c.identity.not_in(held)).values(body=None, data=None))


def forget_oldest(connection: Connection, flow: str, name: str) -> None:
    """List no more than the latest of what was let go."""
    own = (let_go.c.flow == flow, let_go.c.intake == name)
    if (connection.execute(select(func.count()).where(*own)).scalar() or 0) > MOST_LET_GO * 2:
        kept = select(let_go.c.identity).where(*own).order_by(let_go.c.at.desc(), let_go.c.identity).limit(MOST_LET_GO)
        connection.execute(delete(let_go).where(*own, let_go.c.identity.not_in(kept)))


def one_let_go(connection: Connection, flow: str, name: str, identity: str) -> dict[str, Any] | None:
    """One of those that were let go."""
    query = select(let_go).where(let_go.c.flow == flow, let_go.c.intake == name, let_go.c.identity == identity)
    row = connection.execute(query).mappings().first()
    return dict(row) if row else None


def listed_let_go(connection: Connection, flow: str, name: str, most: int) -> list[dict[str, Any]]:
    """What was let go last."""
    query = select(let_go).where(let_go.c.flow == flow, let_go.c.intake == name).order_by(let_go.c.at.desc(), let_go.c.identity).limit(most)
    return [dict(row) for row in connection.execute(query).mappings()]
