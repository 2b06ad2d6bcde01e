"""Mails, messages, calls and entries as stored: each goes out once for its key. How they move stands in `core.deliveries.states`."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, func, insert, select, update

from metrikon.core.deliveries.comparing import Differs, changed
from metrikon.core.deliveries.sending import Sends
from metrikon.core.deliveries.states import FREE, Move, State, moved, sources, target
from metrikon.core.values.exact import dumps, loads
from metrikon.store.tables import deliveries, journal, runs

UNDER_WAY = ("ready", "running", "waiting")  # states of a run that goes on by itself


class SentNow(Exception):
    """Another run is sending it just now."""


@dataclass(frozen=True)
class Out:
    """Something that goes out by a step of a run."""

    sends: Sends
    key: str
    run_id: str
    item_id: str
    flow: str
    flow_version: int
    path: str
    kind: str  # the kind of its step
    seen: tuple[str, str] | None = None  # the state and the run that its key stood with when it was looked up


@dataclass(frozen=True)
class Known:
    """How something stands that went out under a key, or was to: what its step gave, and what of it was sent otherwise than it is wanted now."""

    state: State
    run_id: str
    result: Any
    differs: Sequence[Differs] = ()
    under_way: bool = False  # whether its run goes on


def known(connection: Connection, out: Out) -> Known | None:
    """What is known of a key; an earlier version has noted what went out in journals alone."""
    query = select(deliveries.c.state, deliveries.c.run_id, deliveries.c["values"], deliveries.c.result, runs.c.state.label("stands"))
    row = connection.execute(query.join(runs, runs.c.id == deliveries.c.run_id).where(deliveries.c.key == out.key)).first()
    if row is None:
        return None if out.sends.key else _journaled(connection, out)
    was = loads(row[2])
    other = changed(_plain(out.sends.values), was) if was else {}
    differs = tuple(Differs(name, was.get(name), value) for name, value in other.items())
    return Known(row[0], row[1], loads(row[3]) if row[3] else None, differs, row[4] in UNDER_WAY)


def _journaled(connection: Connection, out: Out) -> Known | None:
    its = select(runs.c.id).where(runs.c.item_id == out.item_id, runs.c.flow == out.flow, runs.c.id != out.run_id)
    query = select(journal.c.run_id, journal.c.data).where(
        journal.c.run_id.in_(its), journal.c.path == out.path, journal.c.event == "done", journal.c.kind == out.kind
    )
    row = connection.execute(query.order_by(journal.c.run_id.desc()).limit(1)).first()
    return Known("written", row[0], loads(row[1]).get("result")) if row is not None else None


def begin(connection: Connection, out: Out, at: int) -> None:
    """It is being handed over, by this run. Raises `SentNow` where another one does that, or did, since it was looked up."""
    before = connection.execute(select(deliveries.c.state, deliveries.c.run_id).where(deliveries.c.key == out.key)).first()
    if before is not None and before[1] != out.run_id and tuple(before) != out.seen:
        raise SentNow(before[1])
    values = {
        "run_id": out.run_id,
        "path": out.path,
        "flow": out.flow,
        "flow_version": out.flow_version,
        "target": out.sends.target[:60],
        "destination": "",
        "position": 0,
        "values": dumps(_plain(out.sends.values)),
        "state": moved(before[0] if before is not None else None, "begin"),
        "kind": out.sends.what,
        "moves": out.sends.moves,
        "most_attempts": 1,
        "not_before": 0,
        "begun_at": at,
        "done_at": None,
        "error": None,
        "differs": None,
        "parts": dumps(list(out.sends.key)) if out.sends.key else None,
    }
    if not connection.execute(update(deliveries).where(deliveries.c.key == out.key).values(values)).rowcount:
        connection.execute(insert(deliveries).values({**values, "key": out.key}))


def ended(connection: Connection, out: Out, by: Move, at: int, result: Mapping[str, Any] | None = None, error: str | None = None) -> None:
    """It came to its end, by a move of the table; a key of which that is not so stays as it stands."""
    mine = (deliveries.c.key == out.key) & (deliveries.c.run_id == out.run_id) & deliveries.c.state.in_(sources(by))
    told: dict[str, Any] = {"state": target(by), "done_at": at, "error": error}
    told |= {"result": dumps(dict(result)), "receipt": out.sends.target} if result is not None else {}
    connection.execute(update(deliveries).where(mine).values(told))


def taken_over(connection: Connection, out: Out) -> None:
    """What an earlier run may have sent is asked about by this one."""
    mine = (deliveries.c.key == out.key) & deliveries.c.state.in_(sources("ask about"))
    connection.execute(update(deliveries).where(mine).values(run_id=out.run_id, path=out.path, state=target("ask about")))


@dataclass(frozen=True)
class Returning:
    """Something that is to be taken back: what of it was kept, and what its step gave."""

    key: str
    flow: str
    flow_version: int
    path: str
    values: Mapping[str, Any]
    result: Mapping[str, Any]
    attempts: int


def returning(connection: Connection, now: int, most: int = 200) -> list[Returning]:
    """What is to be taken back now, rows aside, the latest first."""
    names = ("key", "flow", "flow_version", "path", "values", "result", "attempts")
    due = (deliveries.c.destination == "") & (deliveries.c.state == "returning") & (deliveries.c.not_before <= now) & (deliveries.c.kind != "row")
    query = select(*(deliveries.c[name] for name in names)).where(due).order_by(deliveries.c.begun_at.desc()).limit(most)
    found = (dict(row) for row in connection.execute(query).mappings())
    return [Returning(**{**each, "values": loads(each["values"]), "result": loads(each["result"]) if each["result"] else {}}) for each in found]


def counted(connection: Connection, item_ids: Sequence[str]) -> dict[str, int]:
    """How much of each kind went out by the runs of items, rows aside."""
    found: dict[str, int] = {}
    for start in range(0, len(item_ids), 500):
        query = select(deliveries.c.kind, func.count()).join(runs, runs.c.id == deliveries.c.run_id)
        query = query.where(runs.c.item_id.in_(item_ids[start : start + 500]), deliveries.c.kind != "row", deliveries.c.state == "written")
        for kind, count in connection.execute(query.group_by(deliveries.c.kind)):
            found[str(kind)] = found.get(str(kind), 0) + int(count)
    return found


def is_free(found: Known | None, run_id: str) -> bool:
    """Whether it may go out: nobody has sent it, or this run itself is about to."""
    return found is None or found.state in FREE or (found.run_id == run_id and found.state != "written")


def _plain(values: Mapping[str, Any]) -> dict[str, Any]:
    """Values as they are kept: what is no JSON as its text."""
    found: dict[str, Any] = loads(dumps(dict(values)))
    return found
