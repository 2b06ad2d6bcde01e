"""Taking in what intakes hold: what is new since their cursors, kept together with where they stand then; what is let go, noted with the reason."""

from __future__ import annotations

import hashlib
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection

from metrikon.core.flows.coming import called, let_go, too_early, with_ending
from metrikon.core.flows.form import plain
from metrikon.core.flows.model import Flow, Said
from metrikon.core.values.exact import dumps, dumps_sorted, loads
from metrikon.core.values.text import clean
from metrikon.engine.arrivals import IN_ROW, Arrivals
from metrikon.engine.circles import Pace, too_deep
from metrikon.engine.opening import may_hold
from metrikon.ports.clock import Clock
from metrikon.ports.intake import IntakeFailed, Piece, Source, Thing
from metrikon.store import intakes, items
from metrikon.store.database import Database, StoreFailed
from metrikon.store.items import Arrived, OtherContent

AT_ONCE = 16  # things on their way at once, in their order
LOOKED_UP, HELD = 50, 8_000_000  # things that are looked up at once, whether they were taken; the most bytes of these
TOGETHER = 200  # of what is let go, noted in one commit
TRIES = 5  # times that a thing which cannot be had is tried, before it is let go
LONGEST = 400  # characters that are told of a look
_NO_SAY = {"every", "settled", "name", "repeats"}  # parameters that change nothing of what is taken


def said_as(said: Said) -> str:
    """A hash of what a flow says of an intake, as far as it decides what is taken."""
    told = plain(said.form) | {"where": getattr(said.form, "where", None)}
    known = {name: str(value) for name, value in told.items() if name not in _NO_SAY and value is not None}
    return hashlib.sha256(dumps_sorted([said.kind, known])).hexdigest()[:32]


@dataclass
class _Sent:
    """A thing on its way in."""

    thing: Thing
    futures: list[Future[Arrived]]


@dataclass(frozen=True)
class _Gone:
    """A thing that is not taken: let go for a reason, or of no interest."""

    thing: Thing
    why: str
    taken: bool


NOTHING = "There is nothing in it that is taken."


class Taking:
    """Takes in by the intakes of flows. `largest`: the most bytes that are taken."""

    def __init__(self, database: Database, arrivals: Arrivals, clock: Clock, largest: int, pace: Pace | None = None) -> None:
        self.pace = pace or Pace(clock, 0)
        self._database, self._arrivals, self._clock, self._largest = database, arrivals, clock, largest
        self.problems: dict[tuple[str, str], dict[str, str]] = {}  # of single things: by flow and intake, then by name
        self._tried: dict[tuple[str, str, str], int] = {}

    def row(self, flow: Flow, said: Said, place: str = "") -> dict[str, Any]:
        """Where an intake stands, as of what its flow says of it now. One that has taken things before may go on."""
        with self._database.reading() as connection:
            found = intakes.get(connection, flow.name, said.name)
        now = said_as(said)
        if found is not None and found["said"] == now and found["place"] == place:
            return found

        def job(connection: Connection) -> dict[str, Any]:
            row = intakes.get(connection, flow.name, said.name)
            same = row is not None and row["place"] == place
            fresh = {
                "flow": flow.name,
                "name": said.name,
                "place": place,
                "said": now,
                "agreed": row is None and intakes.ever(connection, flow.name, said.name),
                "would": None,
                "cursor": row["cursor"] if row is not None and same else None,
                "taken": 0,
                "let_go": row["let_go"] if row is not None else 0,
                "looked_at": None,
                "told": "",
                "failing_since": None,
                "address": row["address"] if row is not None else None,
                "sealed": row["sealed"] if row is not None else None,
            }
            intakes.put(connection, fresh)
            return fresh

        return self._database.write(job)

    def look(self, flow: Flow, said: Said, source: Source, row: dict[str, Any], stopped: Callable[[], bool] = lambda: False) -> int:
        """Take in what is new; how many things were taken. Raises `IntakeFailed`, and what `Arrivals` raises."""
        most = getattr(said.form, "most", None)
        left = most - int(row["taken"]) if most is not None else None
        if left is not None and left <= 0:
            return 0
        cursor = loads(row["cursor"]) if row["cursor"] is not None else None
        return _Look(self, flow, said, source).go(source.new(cursor, self._clock.now()), left, stopped)

    def one(self, flow: Flow, said: Said, source: Source, thing: Thing) -> list[Arrived]:
        """Take in one thing that a person asked for, whatever its condition says. Raises `IntakeFailed` and what `Arrivals` raises."""
        found = source.one(thing)
        if found.size > self._largest:
            raise IntakeFailed(self._too_large(found))
        sent = self.sent(flow, said, found, source.get(found), asked=True)
        arrived = [each.result() for each in sent]
        source.settle(found, taken=True)
        return arrived

    def sent(
        self, flow: Flow, said: Said, thing: Thing, pieces: Sequence[Piece], *, asked: bool = False, after: Future[Arrived] | None = None
    ) -> list[Future[Arrived]]:
        """The pieces of a thing, on their way in; where the intake stands is kept with the last of them.

        `after`: what was sent before; when that failed this fails too, so that the intake never stands behind something that was not kept.
        """
        found: list[Future[Arrived]] = []
        pieces = _named(said, thing, pieces)
        last = len(pieces) - 1
        for number, piece in enumerate(pieces):
            identity = f"{thing.identity}{piece.place}"
            if piece.within == "each" and may_hold(piece.data):
                if after is not None:
                    after.result()  # it is kept at once: not before what came before it
                arrived = self._arrivals.take_opened(
                    flow.name, said.name, identity, piece.name, piece.data, asked=asked, about=thing.data, only=piece.only, depth=thing.depth
                )
                found += [_done(each) for each in arrived]
                if number == last and found:
                    self._database.write(lambda connection: intakes.took(connection, flow.name, said.name, None if asked else thing.cursor, 1))
                continue
            data = self._arrivals.together(flow.name, piece.name, piece.data, piece.only) if piece.within == "together" else piece.data
            along = (
                self._along(flow.name, said.name, None if asked else thing.cursor, [*found, *([after] if after else [])]) if number == last else None
            )
            found.append(
                self._arrivals.begin(
                    *(flow.name, said.name, identity, piece.name, data),
                    asked=asked,
                    about=thing.data,
                    along=along,
                    in_row=thing.data is not None,
                    depth=thing.depth,
                )
            )
        return found

    def _along(self, flow: str, name: str, cursor: Any, before: list[Future[Arrived]]) -> Callable[[Connection, Arrived], object]:
        def took(connection: Connection, arrived: Arrived) -> None:
            if any(each.done() and each.exception() for each in before):
                raise StoreFailed("What came before it was not kept.")
            intakes.took(connection, flow, name, cursor, 0 if arrived.known else 1)

        return took

    def why_not(self, flow: Flow, said: Said, thing: Thing) -> str:
        """Why a thing is let go; nothing when it is taken."""
        if thing.size > self._largest:
            return self._too_large(thing)
        return too_deep(thing.depth) or let_go(said.form, thing.name, thing.size, thing.at, thing.data)

    def _too_large(self, thing: Thing) -> str:
        return f"{thing.name} has {thing.size / 1e6:.0f} MB; the limit is {self._largest / 1e6:.0f} MB (setting max_bytes). It was left where it is."

    def came(self, flow: str, name: str, told: str, *, failed: bool) -> None:
        """Note what came of a look, where that is news."""
        now = self._clock.now()
        with self._database.reading() as connection:
            row = intakes.get(connection, flow, name)
        if row is None or (not failed and row["failing_since"] is None and row["told"] == told):
            return
        since = (row["failing_since"] or now) if failed else None
        shown = clean(told)[:LONGEST]
        if (row["failing_since"], row["told"]) != (since, shown):
            self._database.write(lambda connection: intakes.change(connection, flow, name, told=shown, failing_since=since, looked_at=now))

    def let_go(self, flow: Flow, said: Said, gone: list[tuple[Thing, str]], body: bytes | None = None) -> Future[None]:
        """Note what is let go, and where the intake stands after it. `body`: what came, so that it may become a sample."""
        now, kept = self._clock.now(), body is not None and len(body) <= IN_ROW
        rows = [
            {
                "identity": items.shortened(thing.identity or thing.name),
                "name": clean(thing.name)[:255],
                "came_at": thing.at,
                "at": now,
                "why": clean(why)[:LONGEST],
                "data": dumps(thing.data) if kept and thing.data is not None else None,
                "body": body if kept else None,
            }
            for thing, why in gone
        ]
        cursor = gone[-1][0].cursor
        return self._database.submit(lambda connection: intakes.note_let_go(connection, flow.name, said.name, rows, cursor))

    def moved(self, flow: str, name: str, cursor: Any) -> Future[None]:
        """Note where an intake stands, though nothing was taken."""
        return self._database.submit(lambda connection: intakes.took(connection, flow, name, cursor, 0))

    def with_known(self, flow: str, name: str, things: Sequence[Thing]) -> Iterator[tuple[Thing, bool]]:
        """Things, each with whether it was taken before, forgotten ones included."""
        kept = [items.shortened(each.identity) for each in things]
        asked = [identity for each in kept if each for identity in (each, items.known_as(each))]
        found: set[str] = set()
        if asked:
            with self._database.reading() as connection:
                found = intakes.known(connection, flow, name, asked)
        for thing, identity in zip(things, kept, strict=True):
            yield thing, bool(identity) and (identity in found or items.known_as(identity) in found)

    def tried(self, flow: str, name: str, thing: Thing) -> bool:
        """Count a try at a thing that could not be had; whether it was the last."""
        key = (flow, name, thing.identity)
        self._tried[key] = self._tried.get(key, 0) + 1
        if self._tried[key] < TRIES:
            return False
        del self._tried[key]
        return True


class _Look:
    """One look at an intake."""

    def __init__(self, taking: Taking, flow: Flow, said: Said, source: Source) -> None:
        self.taking, self.flow, self.said, self.source = taking, flow, said, source
        self.under_way: deque[_Sent] = deque()
        self.gone: list[_Gone] = []
        self.problems: dict[str, str] = {}
        self.count = 0
        self.last: Future[Arrived] | None = None
        self.broken = False
        self.noted: Future[None] | None = None

    def go(self, things: Iterator[Thing], left: int | None, stopped: Callable[[], bool]) -> int:
        try:
            for thing, known in self._known(things):
                if self.broken or stopped() or (left is not None and self.count + len(self.under_way) >= left):
                    break
                self._thing(thing, known=known)
        finally:
            self._settled(0)
            self._note_gone()
            if self.noted is not None:
                self.noted.result()
            self.taking.problems[self.flow.name, self.said.name] = self.problems
        return self.count

    def _known(self, things: Iterator[Thing]) -> Iterator[tuple[Thing, bool]]:
        """Each thing, and whether it was taken before; some are looked up at once."""
        batch: list[Thing] = []
        for thing in things:
            batch.append(thing)
            if len(batch) >= LOOKED_UP or sum(each.size for each in batch) > HELD:
                yield from self.taking.with_known(self.flow.name, self.said.name, batch)
                batch = []
        yield from self.taking.with_known(self.flow.name, self.said.name, batch)

    def _thing(self, thing: Thing, *, known: bool) -> None:
        if thing.taken and not thing.identity:  # nothing but where it stands
            self._pass(thing, "", taken=True)
            return
        if too_early(self.said.form, thing.at, self.flow.zone):
            if thing.cursor is not None:
                self._pass(thing, "")
            return
        if known:
            self._pass(thing, "", taken=True)
            return
        why = self.taking.why_not(self.flow, self.said, thing)
        if why:
            self._pass(thing, why)
            return
        self.taking.pace.look(self.flow.name, self.said.name)
        try:
            pieces = self.source.get(thing)
        except IntakeFailed as error:
            self._not_had(thing, error)
            return
        if not pieces:
            self._pass(thing, NOTHING)
            return
        self._note_gone()
        try:
            sent = self.taking.sent(self.flow, self.said, thing, pieces, after=self.last)
        except OtherContent as error:
            self._pass(thing, str(error))
            return
        if not sent:
            self._pass(thing, NOTHING)
            return
        self.taking.pace.took(self.flow.name, self.said.name)
        self.last = sent[-1]
        self.under_way.append(_Sent(thing, sent))
        self._settled(AT_ONCE)

    def _not_had(self, thing: Thing, error: IntakeFailed) -> None:
        """One thing that could not be had: it is tried again at the next look, and let go in the end where others stand behind it."""
        if error.gone or (thing.cursor is not None and self.taking.tried(self.flow.name, self.said.name, thing)):
            self._pass(thing, str(error))
        elif thing.cursor is not None:
            raise error
        else:
            self.problems[thing.name] = str(error)

    def _pass(self, thing: Thing, why: str, *, taken: bool = False) -> None:
        """Go on behind a thing that is let go for a reason, or is of no interest. `taken`: it was taken before."""
        self.gone.append(_Gone(thing, why, taken))
        if len(self.gone) >= TOGETHER:
            self._settled(0)
            self._note_gone()

    def _note_gone(self) -> None:
        if not self.gone:
            return
        gone, self.gone = self.gone, []
        noted = [(each.thing, each.why) for each in gone if each.why]
        last = gone[-1]
        if noted:
            self.noted = self.taking.let_go(self.flow, self.said, noted)
        if last.thing.cursor is not None and not last.why:
            self.noted = self.taking.moved(self.flow.name, self.said.name, last.thing.cursor)
        for each in gone:
            self._settle(each.thing, taken=each.taken)

    def _settle(self, thing: Thing, *, taken: bool) -> None:
        try:
            self.source.settle(thing, taken=taken)
        except IntakeFailed as error:
            self.problems[thing.name] = str(error)

    def _settled(self, left: int) -> None:
        """Wait for what is under way, until no more than so many are."""
        while len(self.under_way) > left:
            sent = self.under_way.popleft()
            try:
                for each in sent.futures:
                    each.result()
            except OtherContent as error:  # what was sent after it was not kept either: it comes again at the next look
                self.under_way.clear()
                self.broken = True
                self.taking.let_go(self.flow, self.said, [(sent.thing, str(error))])
                return
            self.count += 1
            self._settle(sent.thing, taken=True)


def _done(arrived: Arrived) -> Future[Arrived]:
    future: Future[Arrived] = Future()
    future.set_result(arrived)
    return future


def _named(said: Said, thing: Thing, pieces: Sequence[Piece]) -> Sequence[Piece]:
    """The pieces of a thing under the name that their intake gives them, if it gives one."""
    told = called(said.form, thing.name, thing.size, thing.at, thing.data)
    if not told:
        return pieces
    if len(pieces) > 1:
        return [replace(each, name=f"{told}, {each.name}") for each in pieces]
    return [replace(each, name=with_ending(told, each.name)) for each in pieces]
