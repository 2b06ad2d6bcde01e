"""Rows that steps want written: entered once for each key, after a look at what is known of the key."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal

from sqlalchemy import Connection, bindparam, delete, insert, select, update

from metrikon.core.deliveries.comparing import changed, same_values
from metrikon.core.deliveries.states import ENDED, FREE, Purpose, State, moved
from metrikon.core.flows.keys import LONGEST_FORMER, by_former_rule, is_former, row_key, update_of
from metrikon.core.values.exact import dumps, loads
from metrikon.store import deliveries as stored
from metrikon.store import firsts
from metrikon.store.hot import Hot
from metrikon.store.tables import deliveries, delivery_waits, runs


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
    sets: bool = False  # columns of a row that is there are set
    asks: bool = False  # where it is there otherwise a person is asked
    first: bool = False  # it waits until a person has looked at the first row of its destination
    over: bool = False  # what a person has set is set all the same
    only: bool = False  # no row is made where there is none
    corrects: str = ""  # the item of a run that corrects what its earlier runs have written
    renew: bool = False  # a person has said that what is there otherwise is set
    mark: dict[str, Any] | None = None  # columns that are set when it is taken back, instead of removing it


@dataclass(frozen=True)
class Standing:
    """How a key stands after it was asked for: "ours" to be written, "shown" to a person first, "behind" one that is shown, "done" before, or "elsewhere": under way for another step."""

    state: Literal["ours", "shown", "behind", "done", "elsewhere"]
    run_id: str
    receipt: str | None = None


@dataclass(frozen=True)
class _Known:
    """A delivery as its key is looked up."""

    state: State
    run_id: str
    path: str
    receipt: str | None
    values: bytes
    purpose: Purpose
    moved_from: str | None
    before: bytes | None
    mark: bytes | None


@dataclass(frozen=True)
class _Plan:
    """How a wanted row is entered: under which key, for what, and in whose place."""

    key: str
    purpose: Purpose
    values: dict[str, Any]
    moved_from: str | None = None
    before: dict[str, Any] | None = None


MADE: tuple[Purpose, ...] = ("write", "move", "restore")  # a row of its own, not columns of another

# statements of the hot path are built once: building one costs more than running it
_LOOKED_UP = ("state", "run_id", "path", "receipt", "values", "purpose", "moved_from", "before", "mark")
_KNOWN = Hot(select(*(deliveries.c[name] for name in _LOOKED_UP)).where(deliveries.c.key == bindparam("of")))
_ENTER = Hot(insert(deliveries).inline())


def _restored(each: Wanted, key: str, known: _Known) -> _Plan:
    """A row that was given up or taken back, entered anew: one that was marked as taken back stands there still, and gets its values again."""
    held = loads(known.values)
    if known.state == "taken back" and known.mark and held:
        mark = loads(known.mark)
        was, blank = {**held, **mark}, dict.fromkeys(mark)
    elif known.purpose == "restore" and known.state != "corrected" and known.before:
        was, blank = loads(known.before), {name: None for name, value in held.items() if value is None}
    else:
        return _Plan(key, "write", each.values)
    return _Plan(key, "restore", {**blank, **each.values}, before=was)


@dataclass
class _Entering:
    """Rows of one commit on their way into the table."""

    connection: Connection
    run_id: str
    flow: str
    version: int
    at: int
    found: dict[str, Standing] = field(default_factory=dict)
    fresh: dict[str, dict[str, Any]] = field(default_factory=dict)
    waits: list[dict[str, str]] = field(default_factory=list)
    unseen: dict[str, Literal["", "shown", "behind"]] = field(
        default_factory=dict
    )  # by destination: how rows stand that a person has to look at first

    def enter(self, each: Wanted, position: int) -> None:
        plan = self._plan(each)
        if plan is None:
            return
        unseen = self._unseen(each)
        known = self._known(plan.key)
        if plan.key in self.fresh:
            self._wait(each, plan.key, self.run_id)
        elif known is None:
            self.fresh[plan.key] = self._row(each, plan, position, moved(None, "show" if unseen else "enter"))
            self.found[each.path] = Standing(unseen or "ours", self.run_id)
        elif known.state in ENDED and not each.renew:
            self.found[each.path] = Standing("done", known.run_id, known.receipt)
        elif known.run_id == self.run_id and known.path == each.path:
            row = self._row(each, plan, position, moved(known.state, "show again" if unseen else "enter again"))
            self._replace(plan.key, {name: value for name, value in row.items() if name != "begun_at"})  # since when its key is known outside counts
            self.found[each.path] = Standing(unseen or "ours", self.run_id)
        elif known.state in FREE:
            self._replace(plan.key, self._row(each, plan, position, moved(known.state, "show" if unseen else "enter")))
            self.found[each.path] = Standing(unseen or "ours", self.run_id)
        elif known.state == "unsure":  # nobody has said yet whether it came: it is put before a person again
            self._replace(plan.key, self._row(each, plan, position, moved(known.state, "ask again")))
            self.found[each.path] = Standing("ours", self.run_id)
        else:
            self._wait(each, plan.key, known.run_id)

    def _plan(self, each: Wanted) -> _Plan | None:
        """How a row is to be entered; None where it is there as it is wanted, which is noted."""
        if each.sets:
            return _Plan(update_of(each.key, self.run_id, each.path), "set", each.values)
        key, known = each.key, self._known(each.key)
        if known is None and (former := self._former(each)) is not None:
            key, known = former
        if known is not None and known.run_id == self.run_id and known.path == each.path and known.state not in ENDED:
            if known.purpose == "restore":
                return _restored(each, key, known)
            return _Plan(key, known.purpose, each.values, known.moved_from)
        if known is None or known.state in FREE:
            before = self._before(each) if each.corrects else None
            if before:
                return _Plan(each.key, "move", each.values, before)
            return _Plan(key, "write", each.values) if known is None else _restored(each, key, known)
        if known.state not in ENDED:
            return _Plan(key, "write", each.values)
        if each.renew and known.state == "otherwise" and known.run_id == self.run_id and known.path == each.path:
            return _Plan(key, "set", each.values)
        return self._beside(each, key, known)

    def _beside(self, each: Wanted, key: str, known: _Known) -> _Plan | None:
        """How a row is entered whose key is there."""
        last = stored.last_written(self.connection, key)
        if last is None and known.state == "there":
            last = loads(known.values)
        own = bool(each.corrects) and self._item_of(known.run_id) == each.corrects
        if (last is not None and same_values(each.values, last)) or loads(known.values) == {}:  # forgotten: nothing can be compared
            if each.corrects:
                self._note_there(each, key, known)
            self.found[each.path] = Standing("done", known.run_id, known.receipt)
            return None
        beside = update_of(each.key, self.run_id, each.path)  # not the key of an earlier version: its destination finds the row by the parts
        if own or each.renew:
            return _Plan(beside, "set", each.values if last is None else changed(each.values, last))
        return _Plan(beside, "look", each.values)

    def _before(self, each: Wanted) -> str | None:
        """The row that an earlier run of the item has written by the same step, where no row of this run is that one."""
        mine = [(key, moved_from) for key, moved_from, path in self._mine if path != each.path]
        taken = {row_key(key)[0] for key, _ in mine} | {str(moved_from) for _, moved_from in mine}
        taken |= {row_key(key)[0] for key in self.fresh} | {str(row["moved_from"]) for row in self.fresh.values()}
        its = select(runs.c.id).where(runs.c.item_id == each.corrects)
        query = select(deliveries.c.key).where(
            deliveries.c.run_id.in_(its),
            deliveries.c.run_id != self.run_id,
            deliveries.c.path == each.path,
            deliveries.c.destination == each.destination,
            deliveries.c.state == "written",
            deliveries.c.purpose.in_(MADE),
        )
        found = self.connection.execute(query.order_by(deliveries.c.done_at.desc())).scalars()
        return next((str(key) for key in found if key not in taken), None)

    @cached_property
    def _mine(self) -> list[tuple[str, str | None, str]]:
        """What the run has entered before: key, the key that its row had, and path."""
        return _keys_of(self.connection, self.run_id)

    def _note_there(self, each: Wanted, key: str, known: _Known) -> None:
        """A run that corrects has found a row as it wants it: noted, so that the row is not taken for one that is wanted no longer."""
        noted = _Plan(update_of(key, self.run_id, each.path), "look", each.values)
        if self._known(noted.key) is None and noted.key not in self.fresh:
            self.fresh[noted.key] = {**self._row(each, noted, 0, "there"), "done_at": self.at, "receipt": known.receipt}

    def _item_of(self, run_id: str) -> str:
        return str(self.connection.execute(select(runs.c.item_id).where(runs.c.id == run_id)).scalar())

    def _known(self, key: str) -> _Known | None:
        rows = _KNOWN.run(self.connection, {"of": key})
        return _Known(*rows[0]) if rows else None

    def _former(self, each: Wanted) -> tuple[str, _Known] | None:
        """A delivery of the same row by an earlier version: its key and how it stands."""
        key = f"{each.former_place}|{by_former_rule(each.parts)}"[:LONGEST_FORMER]
        known = self._known(key)
        held = key[len(each.former_place) + 1 :]
        if known is None or not is_former(held, len(key) == LONGEST_FORMER, each.parts, loads(known.values).values()):
            return None
        return key, known

    def _unseen(self, each: Wanted) -> Literal["", "shown", "behind"]:
        if not each.first:
            return ""
        if each.target not in self.unseen:
            self.unseen[each.target] = firsts.stands(self.connection, self.run_id, self.flow, self.version, each.target)
        return self.unseen[each.target]

    def _wait(self, each: Wanted, key: str, run_id: str) -> None:
        self.found[each.path] = Standing("elsewhere", run_id)
        self.waits.append({"key": key, "run_id": self.run_id, "path": each.path})

    def _replace(self, key: str, row: dict[str, Any]) -> None:
        self.connection.execute(update(deliveries).where(deliveries.c.key == key).values({**row, "key": key}))

    def _row(self, each: Wanted, plan: _Plan, position: int, state: State) -> dict[str, Any]:
        return {
            "key": plan.key,
            "destination": each.destination,
            "run_id": self.run_id,
            "path": each.path,
            "position": position,
            "flow": self.flow,
            "flow_version": self.version,
            "target": each.target,
            "values": dumps(plan.values),
            "state": state,
            "attempts": 0,
            "most_attempts": each.most_attempts,
            "not_before": 0,  # at once, whatever the clock says later
            "begun_at": self.at,
            "done_at": None,
            "receipt": None,
            "error": None,
            "parts": dumps(each.parts),
            "left": None,
            "kind": "row",
            "purpose": plan.purpose,
            "asks": each.asks or bool(each.corrects),
            "over": each.over or each.renew,
            "only": each.only,
            "moved_from": plan.moved_from,
            "differs": None,
            "before": dumps(plan.before) if plan.before is not None else None,
            "handed": False,
            "moves": True,
            "mark": dumps(each.mark) if each.mark else None,
            "result": None,
        }


def begin(connection: Connection, run_id: str, flow: str, version: int, wanted: Sequence[Wanted], at: int) -> dict[str, Standing]:
    """Enter rows to be written, each key once. How each path's key stands is returned; those that stand elsewhere wait for it."""
    entering = _Entering(connection, run_id, flow, version, at)
    for position, each in enumerate(wanted):
        entering.enter(each, position)
    for wait in entering.waits:
        connection.execute(delete(delivery_waits).where(delivery_waits.c.run_id == run_id, delivery_waits.c.path == wait["path"]))
        connection.execute(insert(delivery_waits).values(wait))
    if entering.fresh:
        _ENTER.many(connection, list(entering.fresh.values()))
    return entering.found


_ANY_WAITS = Hot(select(delivery_waits.c.key).limit(1))


def waiting(connection: Connection, keys: Sequence[str]) -> list[tuple[str, str, str]]:
    """Who waits for some rows: (key, run, path). They wait no longer: whoever asks tells them."""
    found: list[tuple[str, str, str]] = []
    if not _ANY_WAITS.run(connection, {}):
        return found  # nobody waits for any, as is usual
    for start in range(0, len(keys), stored.AT_ONCE):
        these = delivery_waits.c.key.in_(keys[start : start + stored.AT_ONCE])
        query = select(delivery_waits.c.key, delivery_waits.c.run_id, delivery_waits.c.path).where(these)
        rows = [(str(key), str(run), str(path)) for key, run, path in connection.execute(query)]
        if rows:
            connection.execute(delete(delivery_waits).where(these))
            found += rows
    return found


def drop_surplus(connection: Connection, run_id: str, item_id: str, steps: Collection[str]) -> None:
    """What a run that corrects wants no longer is to be taken back: removed under the key that it has, whatever keys it had before."""
    stored.remove_outright(connection, _surplus(connection, run_id, item_id, steps))


def _surplus(connection: Connection, run_id: str, item_id: str, steps: Collection[str]) -> list[str]:
    """The keys of rows that earlier runs of an item have written by some steps, and that a run which corrects them wants no longer.

    `steps`: those that the flow still has; what another one has written is none of this run's.
    """
    mine = _keys_of(connection, run_id)
    wanted = {row_key(key)[0] for key, _, _ in mine} | {str(moved_from) for _, moved_from, _ in mine}
    its = select(runs.c.id).where(runs.c.item_id == item_id, runs.c.id != run_id)
    written = deliveries.c.moves & (deliveries.c.state == "written") & deliveries.c.purpose.in_(MADE)
    every = connection.execute(select(deliveries.c.key, deliveries.c.path).where(deliveries.c.run_id.in_(its), written)).all()
    return [str(key) for key, path in every if key not in wanted and str(path).rsplit("/", 1)[-1] in steps]


def _keys_of(connection: Connection, run_id: str) -> list[tuple[str, str | None, str]]:
    """All that a run has entered: key, the key that its row had before, and path."""
    query = select(deliveries.c.key, deliveries.c.moved_from, deliveries.c.path).where(deliveries.c.run_id == run_id)
    return [(str(key), moved_from, str(path)) for key, moved_from, path in connection.execute(query)]
