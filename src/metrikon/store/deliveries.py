"""Deliveries: one row of a destination each, under a key that is written once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, bindparam, delete, func, insert, null, select, update

from metrikon.core.flows.keys import LONGEST_FORMER, UPDATE, by_former_rule, is_former
from metrikon.core.values.exact import dumps, loads
from metrikon.store import firsts
from metrikon.store.hot import Hot
from metrikon.store.tables import deliveries, delivery_waits


@dataclass(frozen=True)
class Wanted:
    """A row to be delivered for a step of a run."""

    key: str
    parts: tuple[Any, ...]  # of the key
    destination: str  # the place itself, so that two flows that write there share its keys
    former_place: str  # as an earlier version named it
    target: str  # its name in the flow
    path: str
    values: dict[str, Any]
    most_attempts: int
    first: bool = False  # it waits until a person has looked at the first row of its destination
    how: str = ""  # "over": what a person has set is set all the same; "only": no row is made where there is none


@dataclass(frozen=True)
class Standing:
    """How a key stands after it was asked for: "ours" to be written, "shown" to a person first, "behind" one that is shown, "done" before, or "elsewhere": under way for another step."""

    state: str
    run_id: str
    receipt: str | None


# statements of the hot path are built once: building one costs more than running it
_KNOWN = Hot(
    select(deliveries.c.state, deliveries.c.run_id, deliveries.c.path, deliveries.c.receipt, deliveries.c["values"]).where(
        deliveries.c.key == bindparam("of")
    )
)
_ENTER = Hot(insert(deliveries).inline())


def begin(connection: Connection, run_id: str, flow: str, version: int, wanted: Sequence[Wanted], at: int) -> dict[str, Standing]:
    """Enter rows to be written, each key once. How each path's key stands is returned; those that stand elsewhere wait for it."""
    found: dict[str, Standing] = {}
    fresh: dict[str, dict[str, Any]] = {}
    waits: list[dict[str, str]] = []
    unseen_as: dict[str, str] = {}  # by destination: how rows stand that a person has to look at first
    for position, each in enumerate(wanted):
        key = each.key
        if each.first and each.target not in unseen_as:
            unseen_as[each.target] = firsts.stands(connection, run_id, flow, version, each.target)
        unseen = unseen_as.get(each.target, "") if each.first else ""
        rows = _KNOWN.run(connection, {"of": key})
        if not rows and (former := _former(connection, each)) is not None:
            key, rows = former[0], [former[1]]
        state, by, path, receipt, _ = rows[0] if rows else (None, None, None, None, None)
        if each.key in fresh:
            found[each.path] = Standing("elsewhere", run_id, None)
            waits.append({"key": key, "run_id": run_id, "path": each.path})
        elif state is None:
            found[each.path] = Standing(unseen or "ours", run_id, None)
            fresh[each.key] = _row(each, position, run_id, flow, version, at, unseen=bool(unseen))
        elif state == "done":
            found[each.path] = Standing("done", str(by), receipt)
        elif by == run_id and path == each.path:
            _once_more(connection, key, each, unseen=bool(unseen))
            found[each.path] = Standing(unseen or "ours", run_id, None)
        elif state in ("given up", "unsure"):
            row = {**_row(each, position, run_id, flow, version, at, unseen=bool(unseen) and state != "unsure"), "key": key}
            if state == "unsure":
                row["state"] = "sending"  # nobody has said yet whether it came: it is put before a person again
            connection.execute(update(deliveries).where(deliveries.c.key == key).values(row))
            found[each.path] = Standing(unseen if row["state"] == firsts.SHOWN else "ours", run_id, None)
        else:
            found[each.path] = Standing("elsewhere", str(by), None)
            waits.append({"key": key, "run_id": run_id, "path": each.path})
    for wait in waits:
        connection.execute(delete(delivery_waits).where(delivery_waits.c.run_id == run_id, delivery_waits.c.path == wait["path"]))
        connection.execute(insert(delivery_waits).values(wait))
    if fresh:
        _ENTER.many(connection, list(fresh.values()))
    return found


def _former(connection: Connection, each: Wanted) -> tuple[str, tuple[Any, ...]] | None:
    """A delivery of the same row by an earlier version: its key and how it stands."""
    key = f"{each.former_place}|{by_former_rule(each.parts)}"[:LONGEST_FORMER]
    rows = _KNOWN.run(connection, {"of": key})
    held = key[len(each.former_place) + 1 :]
    return (key, rows[0]) if rows and is_former(held, len(key) == LONGEST_FORMER, each.parts, loads(rows[0][4]).values()) else None


_ANY_WAITS = Hot(select(delivery_waits.c.key).limit(1))


def waiting(connection: Connection, keys: Sequence[str]) -> list[tuple[str, str, str]]:
    """Who waits for some rows: (key, run, path). They wait no longer: whoever asks tells them."""
    found: list[tuple[str, str, str]] = []
    if not _ANY_WAITS.run(connection, {}):
        return found  # nobody waits for any, as is usual
    for start in range(0, len(keys), 500):
        these = delivery_waits.c.key.in_(keys[start : start + 500])
        query = select(delivery_waits.c.key, delivery_waits.c.run_id, delivery_waits.c.path).where(these)
        rows = [(str(key), str(run), str(path)) for key, run, path in connection.execute(query)]
        if rows:
            connection.execute(delete(delivery_waits).where(these))
            found += rows
    return found


def _row(each: Wanted, position: int, run_id: str, flow: str, version: int, at: int, *, unseen: bool) -> dict[str, Any]:
    return {
        "key": each.key,
        "destination": each.destination,
        "run_id": run_id,
        "path": each.path,
        "position": position,
        "flow": flow,
        "flow_version": version,
        "target": each.target,
        "values": dumps(each.values),
        "state": firsts.SHOWN if unseen else "to do",
        "attempts": 0,
        "most_attempts": each.most_attempts,
        "not_before": 0,  # at once, whatever the clock says later
        "begun_at": at,
        "done_at": None,
        "receipt": None,
        "error": None,
        "parts": dumps(each.parts),
        "how": each.how,
        "left": None,
    }


def _once_more(connection: Connection, key: str, each: Wanted, *, unseen: bool) -> None:
    values = {
        "state": firsts.SHOWN if unseen else "to do",
        "attempts": 0,
        "not_before": 0,
        "values": dumps(each.values),
        "error": None,
        "how": each.how,
    }
    connection.execute(update(deliveries).where(deliveries.c.key == key).values(values))


_WANTED = ("key", "values", "run_id", "path", "begun_at", "flow", "flow_version", "target", "attempts", "most_attempts", "parts", "how")
_PLACES = Hot(select(deliveries.c.destination).where(deliveries.c.state == "to do", deliveries.c.not_before <= bindparam("now")).distinct())
_DUE = Hot(
    select(*(deliveries.c[name] for name in _WANTED))
    .where(deliveries.c.destination == bindparam("place"), deliveries.c.state == "to do", deliveries.c.not_before <= bindparam("now"))
    .order_by(deliveries.c.begun_at, deliveries.c.run_id, deliveries.c.position)
    .limit(bindparam("most"))
)
_DONE = Hot(
    update(deliveries)
    .where(deliveries.c.key == bindparam("of"))
    .values(state="done", done_at=bindparam("now"), receipt=bindparam("place"), left=bindparam("unset"), error=null())
)


def places(connection: Connection, now: int) -> list[str]:
    """Destinations with rows that can be written now."""
    return [place for (place,) in _PLACES.run(connection, {"now": now})]


def due(connection: Connection, destination: str, now: int, most: int = 5000) -> list[dict[str, Any]]:
    """Rows of a destination that can be written now, oldest first, those of a run in their order."""
    rows = _DUE.run(connection, {"place": destination, "now": now, "most": most})
    return [{**dict(zip(_WANTED, row, strict=True)), "values": loads(row[1]), "parts": loads(row[-2]) if row[-2] else None} for row in rows]


def done(connection: Connection, receipts: Sequence[tuple[str, str, Sequence[str]]], at: int) -> None:
    """Rows were written: (key, receipt, columns that were left) each."""
    _DONE.many(
        connection, [{"of": key, "place": receipt, "unset": dumps(list(left)) if left else None, "now": at} for key, receipt, left in receipts]
    )


def last_written(connection: Connection, key: str) -> dict[str, Any] | None:
    """What was last written into each column of the row with a key, its later settings included; None for a row that we have not written."""
    of_row = (deliveries.c.key == key) | ((deliveries.c.key > f"{key}{UPDATE}") & (deliveries.c.key < f"{key}{UPDATE}~"))
    query = select(deliveries.c["values"], deliveries.c.left).where(of_row, deliveries.c.state == "done").order_by(deliveries.c.done_at)
    found: dict[str, Any] | None = None
    for values, left in connection.execute(query):
        unset = set(loads(left)) if left else ()
        found = {**(found or {}), **{name: value for name, value in loads(values).items() if name not in unset}}
    return found


def sending(connection: Connection, keys: Sequence[str]) -> None:
    """Rows are being handed over to where nobody can tell later whether they came."""
    for start in range(0, len(keys), 500):
        connection.execute(update(deliveries).where(deliveries.c.key.in_(keys[start : start + 500])).values(state="sending"))


def cut_off(connection: Connection, under_way: Sequence[str]) -> list[dict[str, Any]]:
    """Rows whose handing over was cut off: not those of destinations that are being written to."""
    wanted = (*_WANTED, "destination")
    query = select(*(deliveries.c[name] for name in wanted)).where(deliveries.c.state == "sending", deliveries.c.destination.not_in(under_way))
    return [dict(zip(wanted, row, strict=True)) for row in connection.execute(query)]


def unsure(connection: Connection, keys: Sequence[str], error: str) -> None:
    """Nobody can tell whether these rows were written."""
    connection.execute(update(deliveries).where(deliveries.c.key.in_(keys)).values(state="unsure", error=error))


def went(connection: Connection, run_id: str, by: str, at: int) -> None:
    """A person has seen that the rows of a run which nobody could tell of are written."""
    mine = (deliveries.c.run_id == run_id) & (deliveries.c.state == "unsure")
    connection.execute(update(deliveries).where(mine).values(state="done", done_at=at, receipt=f"seen there by {by}", error=null()))


def dropped(connection: Connection, run_id: str, why: str) -> list[str]:
    """Rows of a run that are not written yet are not to be written any more; their keys. Another run may enter them anew."""
    of_run = (deliveries.c.run_id == run_id) & deliveries.c.state.in_(("to do", firsts.SHOWN))
    connection.execute(delete(delivery_waits).where(delivery_waits.c.run_id == run_id))
    return list(connection.execute(update(deliveries).where(of_run).values(state="given up", error=why).returning(deliveries.c.key)).scalars())


def of_run(connection: Connection, run_id: str, most: int = 2000) -> list[dict[str, Any]]:
    """The rows of a run, by the path of their step."""
    query = select(deliveries).where(deliveries.c.run_id == run_id).order_by(deliveries.c.path).limit(most)
    return [dict(row) for row in connection.execute(query).mappings()]


def renamed(connection: Connection, former: str, now: str) -> None:
    """Rows not yet written that name their place by a path within the house, as an earlier version did, name it from there."""
    to_do = (deliveries.c.state == "to do") & deliveries.c.destination.startswith(former, autoescape=True)
    connection.execute(update(deliveries).where(to_do).values(destination=now + func.substr(deliveries.c.destination, len(former) + 1)))


def failed(connection: Connection, keys: Sequence[str], error: str, not_before: int | None, *, counted: bool = True) -> None:
    """A batch was not written: to be tried again at a time, or given up when there is none. `counted`: it was one of the tries that it has."""
    for start in range(0, len(keys), 500):
        values: dict[str, Any] = {"attempts": deliveries.c.attempts + int(counted), "error": error}
        values |= {"state": "given up"} if not_before is None else {"state": "to do", "not_before": not_before}
        connection.execute(update(deliveries).where(deliveries.c.key.in_(keys[start : start + 500])).values(values))
