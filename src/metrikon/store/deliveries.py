"""Deliveries as stored: one row of a destination each, under a key that is written once. How they move stands in `core.deliveries.states`."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, Connection, and_, bindparam, delete, func, null, or_, select, update

from metrikon.core.deliveries.comparing import Differs
from metrikon.core.deliveries.states import DUE, Move, Purpose, State, moved, sources, target
from metrikon.core.flows.keys import UPDATE, row_key
from metrikon.core.values.exact import dumps, loads
from metrikon.store.hot import Hot
from metrikon.store.tables import deliveries, delivery_waits, runs

AT_ONCE = 500  # keys in one statement
TRIED_ONCE_MORE = deliveries.c.attempts + 1


@dataclass(frozen=True, slots=True)
class Delivery:
    """One row on its way out, or there. Times are milliseconds since 1970."""

    key: str
    destination: str  # the place itself
    run_id: str
    path: str
    flow: str
    flow_version: int
    target: str  # its name in the flow
    state: State
    purpose: Purpose
    values: Mapping[str, Any]
    parts: Sequence[Any]  # of the key; they may be forgotten
    attempts: int
    most_attempts: int
    begun_at: int
    asks: bool  # where it is there otherwise a person is asked
    over: bool  # what a person has set is set all the same
    only: bool  # where there is no such row none is made
    moved_from: str | None  # the key that its row had before
    done_at: int | None = None
    receipt: str | None = None
    error: str | None = None
    left: Sequence[str] = ()  # columns that a person has set, and that were left
    differs: Sequence[Differs] = ()
    before: Mapping[str, Any] | None = None  # what stood in columns before they were set
    mark: Mapping[str, Any] | None = None  # columns that are set when it is taken back, instead of removing it
    handed: bool = False  # it was handed over, and its destination is to be asked what came of it
    moves: bool = True  # a run that corrects takes it over, or back where it wants it no longer
    kind: str = "row"


_AS_JSON: Mapping[str, Callable[[Any], Any]] = {
    "values": loads,
    "parts": lambda found: tuple(loads(found)) if found else (),
    "left": lambda found: tuple(loads(found)) if found else (),
    "before": lambda found: loads(found) if found else None,
    "mark": lambda found: loads(found) if found else None,
}
_COLUMNS = tuple(name for name in Delivery.__slots__ if name != "differs")
_ALL = (*_COLUMNS, "differs")


def _delivery(row: Sequence[Any]) -> Delivery:
    """A delivery from its columns, in the order of `_ALL`."""
    read = {name: _AS_JSON[name](value) if name in _AS_JSON else value for name, value in zip(_COLUMNS, row, strict=False)}
    read |= {name: bool(read[name]) for name in ("asks", "over", "only", "handed", "moves")}
    there = loads(row[-1]) if row[-1] else {}
    return Delivery(**read, differs=tuple(Differs(name, value, read["values"].get(name)) for name, value in there.items()))


def _found(connection: Connection, where: ColumnElement[bool], *order: Any, most: int = 2000) -> list[Delivery]:
    query = select(*(deliveries.c[name] for name in _ALL)).where(where).order_by(*order).limit(most)
    return [_delivery(row) for row in connection.execute(query)]


# statements of the hot path are built once: building one costs more than running it
_PLACES = Hot(
    select(deliveries.c.destination)
    .where(
        or_(*(deliveries.c.state == state for state in DUE)),
        deliveries.c.not_before <= bindparam("now"),
        deliveries.c.kind == "row",
    )
    .distinct()
)


def _due_in(state: State, *order: Any) -> Hot:
    of_place = (deliveries.c.destination == bindparam("place")) & (deliveries.c.kind == "row")
    now = (deliveries.c.state == state) & (deliveries.c.not_before <= bindparam("now"))
    return Hot(select(*(deliveries.c[name] for name in _ALL)).where(of_place, now).order_by(*order).limit(bindparam("most")))


_ENTERED = _due_in("entered", deliveries.c.begun_at, deliveries.c.run_id, deliveries.c.position)
_RETURNING = _due_in("returning", deliveries.c.done_at.desc(), deliveries.c.begun_at.desc(), deliveries.c.position.desc())
_ENDED = Hot(
    update(deliveries)
    .where(deliveries.c.key == bindparam("of"), or_(*(deliveries.c.state == state for state in sources("written"))))
    .values(
        state=bindparam("to"),
        done_at=bindparam("now"),
        receipt=bindparam("place"),
        left=bindparam("unset"),
        differs=bindparam("other"),
        before=bindparam("was"),
        purpose=bindparam("for"),
        error=null(),
    )
)


def places(connection: Connection, now: int) -> list[str]:
    """Destinations with rows that can be written now."""
    return [place for (place,) in _PLACES.run(connection, {"now": now})]


def due(connection: Connection, destination: str, now: int, most: int = 5000) -> list[Delivery]:
    """Rows of a destination that can be written now, oldest first, those of a run in their order; then those that can be taken back.

    Of those that are the same row only the latest is taken back now: what it did comes before what was done before it.
    """
    given = {"place": destination, "now": now, "most": most}
    taken: set[str] = set()
    found = [_delivery(row) for row in _ENTERED.run(connection, given)]
    for each in (_delivery(row) for row in _RETURNING.run(connection, given)):
        same = {row_key(each.key)[0], *([each.moved_from] if each.moved_from else [])}
        found += [] if same & taken else [each]
        taken |= same
    return found


@dataclass(frozen=True)
class End:
    """What became of a row: the move by which it came to its end, and what is known of it then."""

    key: str
    move: Move  # "written", "found there" or "found otherwise"
    place: str
    left: Sequence[str] = ()
    differs: Sequence[Differs] = ()
    before: Mapping[str, Any] | None = None
    purpose: Purpose = "write"


def ended(connection: Connection, ends: Iterable[End], at: int) -> None:
    """Rows have come to their end."""
    _ENDED.many(
        connection,
        [
            {
                "of": each.key,
                "to": target(each.move),
                "place": each.place,
                "unset": dumps(list(each.left)) if each.left else None,
                "other": dumps({one.column: one.there for one in each.differs}) if each.differs else None,
                "was": dumps(dict(each.before)) if each.before is not None else None,
                "for": each.purpose,
                "now": at,
            }
            for each in ends
        ],
    )


def move(connection: Connection, keys: Sequence[str], by: Move, **columns: Any) -> list[str]:
    """Deliveries make a move, where the table has it from where they stand; the keys of those that did."""
    found: list[str] = []
    for start in range(0, len(keys), AT_ONCE):
        these = deliveries.c.key.in_(keys[start : start + AT_ONCE]) & deliveries.c.state.in_(sources(by))
        found += connection.execute(update(deliveries).where(these).values(state=target(by), **columns).returning(deliveries.c.key)).scalars()
    return found


def last_written(connection: Connection, key: str, *states: State) -> dict[str, Any] | None:
    """What was last written into each column of the row with a key, its later settings included; None for a row that we have not written.

    `states`: of those that count besides what is written: "corrected" for a row that has another key now, "returning" for one that is to be taken back.
    """
    of_row = (deliveries.c.key == key) | ((deliveries.c.key > f"{key}{UPDATE}") & (deliveries.c.key < f"{key}{UPDATE}~"))
    query = (
        select(deliveries.c["values"], deliveries.c.left).where(of_row, deliveries.c.state.in_(("written", *states))).order_by(deliveries.c.done_at)
    )
    found: dict[str, Any] | None = None
    for values, left in connection.execute(query):
        unset = set(loads(left)) if left else ()
        found = {**(found or {}), **{name: value for name, value in loads(values).items() if name not in unset}}
    return found


_LAST_OF = Hot(
    select(deliveries.c["values"])
    .where(deliveries.c.destination == bindparam("place"), deliveries.c.state == "written")
    .order_by(deliveries.c.not_before.desc())  # by the index: any row will do, and sorting all of them would take ever longer
    .limit(1)
)


def columns_of(connection: Connection, destination: str) -> tuple[str, ...]:
    """The columns of a row that was written to a place before."""
    found = _LAST_OF.scalar(connection, {"place": destination})
    return tuple(loads(found)) if found else ()


def twins(connection: Connection, some: Sequence[Delivery]) -> set[str]:
    """The keys of those deliveries of one place whose values were written there under another key as well."""
    found: set[str] = set()
    for each in some:
        other = (
            (deliveries.c.destination == each.destination) & (deliveries.c.state == "written") & (deliveries.c["values"] == dumps(dict(each.values)))
        )
        if connection.execute(select(deliveries.c.key).where(other, deliveries.c.key != each.key).limit(1)).first() is not None:
            found.add(each.key)
    return found


def held_up(connection: Connection, destination: str, now: int) -> set[str]:
    """The runs of which a row at a place is unsure, being handed over, or put off until later."""
    put_off = and_(deliveries.c.state == "entered", deliveries.c.not_before > now)
    query = select(deliveries.c.run_id).where(deliveries.c.destination == destination, or_(deliveries.c.state.in_(("unsure", "sending")), put_off))
    return set(connection.execute(query.distinct()).scalars())


def handed_back(connection: Connection, keys: Sequence[str]) -> None:
    """Rows that were noted as handed over were not: those before them are not written yet."""
    for at in range(0, len(keys), AT_ONCE):
        these = deliveries.c.key.in_(keys[at : at + AT_ONCE]) & (deliveries.c.state == "sending")
        connection.execute(update(deliveries).where(these).values(state=moved("sending", "put off")))


def still_open(connection: Connection, keys: Sequence[str]) -> set[str]:
    """The runs of rows which have not come to their end: they were put off, or nobody can tell of them."""
    found: set[str] = set()
    for at in range(0, len(keys), AT_ONCE):
        these = deliveries.c.key.in_(keys[at : at + AT_ONCE])
        found |= set(connection.execute(select(deliveries.c.run_id).where(these, deliveries.c.state.in_(("entered", "sending", "unsure")))).scalars())
    return found


def cut_off(connection: Connection, under_way: Sequence[str]) -> list[Delivery]:
    """Rows whose handing over was cut off: not those of destinations that are being written to."""
    return _found(connection, (deliveries.c.state == "sending") & deliveries.c.destination.not_in(under_way) & (deliveries.c.kind == "row"))


def seen_there(connection: Connection, run_id: str, by: str, at: int) -> None:
    """A person has seen that the rows of a run which nobody could tell of are written."""
    unsure = select(deliveries.c.key).where(deliveries.c.run_id == run_id, deliveries.c.state == "unsure")
    move(connection, list(connection.execute(unsure).scalars()), "seen there", done_at=at, receipt=f"seen there by {by}", error=None)


def kept(connection: Connection, run_id: str) -> None:
    """A person leaves what is there of a run as it is there."""
    other = select(deliveries.c.key).where(deliveries.c.run_id == run_id, deliveries.c.state == "otherwise")
    move(connection, list(connection.execute(other).scalars()), "kept")


def dropped(connection: Connection, run_id: str, why: str) -> list[str]:
    """Rows of a run that are not written yet are not to be written any more; their keys. Another run may enter them anew."""
    connection.execute(delete(delivery_waits).where(delivery_waits.c.run_id == run_id))
    waiting = select(deliveries.c.key).where(deliveries.c.run_id == run_id, deliveries.c.state.in_(("entered", "shown")))
    return move(connection, list(connection.execute(waiting).scalars()), "fail", error=why)


def of_run(connection: Connection, run_id: str, most: int = 2000) -> list[Delivery]:
    """What a run has sent out, in the order in which it was entered."""
    return _found(connection, deliveries.c.run_id == run_id, deliveries.c.begun_at, deliveries.c.position, deliveries.c.path, most=most)


def of_item(connection: Connection, item_id: str, most: int = 2000) -> list[Delivery]:
    """All that went out by the runs of an item, as it was entered."""
    its = select(runs.c.id).where(runs.c.item_id == item_id)
    return _found(connection, deliveries.c.run_id.in_(its), deliveries.c.begun_at, deliveries.c.run_id, deliveries.c.position, most=most)


def took_place_of(connection: Connection, key: str) -> str | None:
    """The key that the row with a key has now, where a run that corrected has moved it."""
    query = select(deliveries.c.key).where(deliveries.c.moved_from == key, deliveries.c.state.in_(("written", "corrected", "returning")))
    return connection.execute(query.order_by(deliveries.c.done_at.desc()).limit(1)).scalar()


def remove_outright(connection: Connection, keys: Sequence[str]) -> None:
    """Rows are to be removed under the keys that they have, whatever keys they had before: these go with them."""
    former = [each for key in keys for each in had_before(connection, key)]
    for start in range(0, len(keys), AT_ONCE):
        moves = deliveries.c.key.in_(keys[start : start + AT_ONCE]) & (deliveries.c.purpose == "move")
        connection.execute(update(deliveries).where(moves).values(purpose="write", moved_from=None))
    move(connection, keys, "take back", attempts=0, not_before=0, error=None)
    move(connection, former, "gone")


def run_of(connection: Connection, key: str) -> str:
    """The run that has sent something out."""
    return str(connection.execute(select(deliveries.c.run_id).where(deliveries.c.key == key)).scalar())


def had_before(connection: Connection, key: str) -> list[str]:
    """The keys that a row had before the one that it has, the latest first."""
    found: list[str] = []
    former = connection.execute(select(deliveries.c.moved_from).where(deliveries.c.key == key)).scalar()
    while former is not None and former not in found and former != key:
        found.append(str(former))
        former = connection.execute(select(deliveries.c.moved_from).where(deliveries.c.key == former)).scalar()
    return found


def held_back(connection: Connection, found: Delivery) -> None:
    """A row stays: what it has taken the place of is not taken back either."""
    move(connection, had_before(connection, found.key), "held back")


def set_by(connection: Connection, key: str) -> set[str]:
    """The runs that have set columns of the row with a key."""
    settings = (deliveries.c.key > f"{key}{UPDATE}") & (deliveries.c.key < f"{key}{UPDATE}~") & (deliveries.c.state == "written")
    return set(connection.execute(select(deliveries.c.run_id).where(settings)).scalars())


def runs_of_version(connection: Connection, flow: str, version: int, most: int) -> list[str]:
    """Settled runs of a version of a flow by which something was written, the latest first."""
    query = select(deliveries.c.run_id).join(runs, runs.c.id == deliveries.c.run_id)
    query = query.where(deliveries.c.flow == flow, deliveries.c.flow_version == version, deliveries.c.state.in_(("written", "corrected")))
    query = query.where(runs.c.settled_at.is_not(None)).distinct().order_by(deliveries.c.run_id.desc())
    return list(connection.execute(query.limit(most)).scalars())


def staying(connection: Connection, most: int = 20) -> list[Delivery]:
    """What was to be taken back and could not be, the latest first."""
    return _found(connection, (deliveries.c.state == "written") & deliveries.c.error.is_not(None), deliveries.c.done_at.desc(), most=most)


def renamed(connection: Connection, former: str, now: str) -> None:
    """Rows not yet written that name their place by a path within the house, as an earlier version did, name it from there."""
    to_do = (deliveries.c.state == "entered") & deliveries.c.destination.startswith(former, autoescape=True)
    connection.execute(update(deliveries).where(to_do).values(destination=now + func.substr(deliveries.c.destination, len(former) + 1)))


def put_off(connection: Connection, keys: Sequence[str], error: str, not_before: int, *, counted: bool = True, handed: bool = False) -> None:
    """A batch was not written: it is tried again at a time. `counted`: it was one of the tries that it has; `handed`: nobody knows what came of it."""
    for start in range(0, len(keys), AT_ONCE):
        some = keys[start : start + AT_ONCE]
        told: dict[str, Any] = {"attempts": deliveries.c.attempts + int(counted), "error": error, "not_before": not_before} | (
            {"handed": True} if handed else {}
        )
        for state in sources("put off"):
            these = deliveries.c.key.in_(some) & (deliveries.c.state == state)
            connection.execute(update(deliveries).where(these).values(state=moved(state, "put off"), **told))
