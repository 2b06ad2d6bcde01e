"""Intakes that are looked at again and again; and what is to be done besides, every moment or every hour."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import Any

from metrikon.app.agreeing import Agreeing
from metrikon.app.kinds import Kinds
from metrikon.core.flows.mapping import set_by
from metrikon.core.flows.model import Flow, Said
from metrikon.core.flows.problems import BadFlow
from metrikon.engine.arrivals import NoFlow
from metrikon.engine.catalog import Catalog
from metrikon.engine.foreseeing import Would
from metrikon.engine.taking import Taking
from metrikon.ports.destination import KEY_COLUMN
from metrikon.ports.intake import Here, IntakeFailed, Source, Thing
from metrikon.ports.machine import NoRoom
from metrikon.ports.touching import Touched
from metrikon.store import flows
from metrikon.store.database import Database, StoreFailed
from metrikon.store.items import Arrived, OtherContent
from metrikon.store.room import Room

log = logging.getLogger("metrikon.app")
HOUR = 3600.0  # seconds
SCAN = 0.1  # seconds between looks, at least
REST = 10  # times that a look took which found nothing: so long is rested after it
FIRST, LONGEST = 5.0, 300.0  # seconds that one rests after a look that failed, doubled each time
Key = tuple[str, str]  # of a flow, and of its intake


@dataclass
class _Opened:
    said: Said
    place: str
    source: Source
    own: frozenset[str] = frozenset()


class Watching:
    """Looks at the intakes of flows that are switched on: at quick ones all the time, at each of the others in a thread of its own.

    `often`: done at every look, `hourly`: every hour. `calling`: how outside services are called.
    """

    def __init__(
        self,
        database: Database,
        catalog: Catalog,
        taking: Taking,
        agreeing: Agreeing,
        room: Room,
        barred: Callable[[Said], str],
        kinds: Kinds,
        here: Here,
        often: Sequence[Callable[[], object]],
        hourly: Sequence[Callable[[], object]],
        *,
        look_first: bool,
    ) -> None:
        self._look_first = look_first  # whether an intake that looks outside waits for a yes
        self._database, self._catalog, self._taking, self._agreeing, self._kinds = database, catalog, taking, agreeing, kinds
        self._barred = barred  # why an intake may not be looked at, or nothing
        self._not_allowed: list[dict[str, Any]] = []  # as of the last look
        self._room, self._here = room, here
        self._often, self._hourly = often, hourly
        self._open: dict[Key, _Opened] = {}
        self._slow: dict[Key, _Slow] = {}
        self._lock = threading.Lock()
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._watch, name="intakes", daemon=True)

    def start(self) -> None:
        """Begin to look."""
        self._thread.start()

    def stop(self) -> None:
        """Look no more; what is being taken in is taken in."""
        self._stop.set()
        if self._thread.is_alive():
            self._thread.join()
        for each in self._slow.values():
            each.stop()
        for each in self._slow.values():
            each.join()
        self._agreeing.stop()
        for opened in self._open.values():
            opened.source.close()

    def problems(self) -> list[dict[str, Any]]:
        """What intakes could not take, with the flow and the reason."""
        found = [{"flow": "", "intake": "", "message": problem}] if (problem := self._room.problem()) else []
        found += self._not_allowed
        for (flow, intake), problems in list(self._taking.problems.items()):  # a look may add one meanwhile
            found += [{"flow": flow, "intake": intake, "message": message} for message in list(problems.values())]
        return found

    def _watch(self) -> None:
        lately, took = -HOUR, 0.0
        while not self._stop.wait(max(SCAN, REST * took)):
            began, found = time.monotonic(), 0
            try:
                found = self._look_around()
                every = time.monotonic() - lately > HOUR
                for each in (*self._often, *(self._hourly if every else ())):
                    each()
                lately = time.monotonic() if every else lately
            except Exception:
                log.exception("intakes could not be looked at")
            took = min(time.monotonic() - began, 1.0) if not found else 0.0

    def _look_around(self) -> int:
        """Look at all intakes that are quick, and see to it that the others are looked at; how many things were taken."""
        if self._room.problem():
            return 0  # what is there stays where it is
        with self._database.reading() as connection:
            running = flows.running(connection)
        not_allowed: list[dict[str, Any]] = []
        wanted: dict[Key, tuple[Flow, Said]] = {}
        count = 0
        for name, version in running:
            try:
                flow = self._catalog.flow(name, version)
            except BadFlow:
                continue  # kept by an older version of the program; the service says so when it is opened
            for said in flow.intakes:
                kind = self._kinds.intakes[said.kind]
                if problem := self._barred(said):
                    not_allowed.append({"flow": flow.name, "intake": said.name, "message": f"{flow.name}: {problem}"})
                elif kind.build is not None and not self._stop.is_set():
                    wanted[flow.name, said.name] = (flow, said)
                    if kind.quick:
                        count += self.look(flow, said).count
        self._not_allowed = not_allowed
        self._arrange({key: each for key, each in wanted.items() if not self._kinds.intakes[each[1].kind].quick})
        for gone in [key for key in self._taking.problems if key not in wanted]:
            self._taking.problems.pop(gone, None)
        return count

    def _arrange(self, wanted: dict[Key, tuple[Flow, Said]]) -> None:
        """A thread for each intake that takes its time; none for one that is wanted no more."""
        for key, slow in list(self._slow.items()):
            if slow.stopped or key not in wanted or not self._alike((slow.flow, slow.said), wanted[key]):
                slow.stop()
                if not slow.is_alive():
                    del self._slow[key]
        for key, (flow, said) in wanted.items():
            if key not in self._slow:
                self._slow[key] = _Slow(self, flow, said)
                self._slow[key].start()

    def source(self, flow: Flow, said: Said) -> _Opened | None:
        """What looks at an intake, kept open; None for one that is sent to the service."""
        kind = self._kinds.intakes[said.kind]
        if kind.build is None or self._barred(said):
            return None
        key = (flow.name, said.name)
        with self._lock:
            kept = self._open.get(key)
            own = self._own(flow, said)
            if kept is None or kept.said.kind != said.kind or kept.said.form != said.form or kept.own != own:
                if kept is not None:
                    kept.source.close()
                self._open[key] = kept = _Opened(said, kind.place(said.form, self._here.home), self._built(flow, said), own)
            return kept

    def _built(self, flow: Flow, said: Said) -> Source:
        build = self._kinds.intakes[said.kind].build
        assert build is not None
        return build(said.form, replace(self._here, zone=flow.zone, own=self._own(flow, said)))

    def _alike(self, one: tuple[Flow, Said], other: tuple[Flow, Said]) -> bool:
        """Whether two versions of a flow look at an intake in the same way."""
        return one[1].form == other[1].form and one[0].zone == other[0].zone and self._own(*one) == self._own(*other)

    def _own(self, flow: Flow, said: Said) -> frozenset[str]:
        """The columns that a flow sets in the very place that its intake looks at; none where it writes elsewhere."""
        home, kinds = self._here.home, self._kinds
        place = _place_of(kinds.intakes[said.kind].touches(said.form, home), said)
        same = [
            name
            for name, each in flow.destinations.items()
            if place and place == _place_of(kinds.destinations[each.kind].touches(each.form, home), each)
        ]
        return set_by(flow, same) | {KEY_COLUMN} if same else frozenset()

    @contextmanager
    def asking(self, flow: Flow, said: Said) -> Iterator[_Opened]:
        """A source for what a person asks, closed afterwards; of a quick kind the one that is looked at all the time. Raises `IntakeFailed`, `NoFlow`."""
        kind = self._kinds.intakes[said.kind]
        if problem := self._barred(said):
            raise NoFlow(problem)
        if kind.build is None:
            raise NoFlow(f"The intake {said.name} of {flow.name} is sent to: nothing is there before it comes.")
        if kind.quick:
            kept = self.source(flow, said)
            assert kept is not None
            yield kept
            return
        found = _Opened(said, kind.place(said.form, self._here.home), self._built(flow, said))
        try:
            yield found
        finally:
            found.source.close()

    def look(self, flow: Flow, said: Said, stopped: Callable[[], bool] = lambda: False) -> Looked:
        """Look at an intake of a flow; how many things were taken, and how long one rests after that."""
        kept = self.source(flow, said)
        if kept is None:
            return Looked(0)
        try:
            row = self._taking.row(flow, said, kept.place)
            if not row["agreed"]:
                kind = self._kinds.intakes[said.kind]
                ask = self._look_first and kind.reaches
                if not self._agreeing.agreed(flow, said, kept.source, row, aside=kind.quick, ask=ask):
                    return Looked(0)
            count = self._taking.look(flow, said, kept.source, row, stopped=lambda: stopped() or self._stop.is_set())
        except IntakeFailed as error:
            self._taking.came(flow.name, said.name, str(error), failed=True)
            self._forget(flow, said)
            return Looked(0, failed=True, wait=error.wait)
        except (NoFlow, NoRoom, StoreFailed, OtherContent, OSError) as error:
            log.error("%s of flow %s: %s", said.name, flow.name, error)
            self._forget(flow, said)
            return Looked(0, failed=True)
        self._taking.came(flow.name, said.name, "", failed=False)
        return Looked(count)

    def _forget(self, flow: Flow, said: Said) -> None:
        """Look at it afresh the next time: what it remembers to have given out may not have been kept."""
        with self._lock:
            kept = self._open.pop((flow.name, said.name), None)
        if kept is not None:
            kept.source.close()

    def would(self, flow: Flow, said: Said, listed: int) -> Would:
        """What an intake would take now. Raises `IntakeFailed`, `NoFlow`."""
        with self.asking(flow, said) as found:
            row = self._taking.row(flow, said, found.place)
            return self._agreeing.foreseeing.would(flow, said, found.source, row, listed=listed)

    def looked_at(self, flow: Flow) -> set[str]:
        """The intakes of a flow that are looked at, by name."""
        return {said.name for said in flow.intakes if self._kinds.intakes[said.kind].build is not None}

    def wait_for_yes(self, flow: Flow) -> list[Said]:
        """The intakes of a flow that look outside and take nothing until somebody says yes."""
        if not self._look_first:
            return []
        wanted = [said for said in flow.intakes if self._kinds.intakes[said.kind].reaches and not self._barred(said)]
        return [said for said in wanted if not self._row(flow, said)["agreed"]]

    def _row(self, flow: Flow, said: Said) -> dict[str, Any]:
        return self._taking.row(flow, said, self._kinds.intakes[said.kind].place(said.form, self._here.home))

    def agree(self, flow: Flow, said: Said) -> None:
        """Let an intake take what is there."""
        self._row(flow, said)
        self._agreeing.say(flow, said)
        slow = self._slow.get((flow.name, said.name))
        if slow is not None:
            slow.stop()  # one that waits for its next look is begun anew, and looks at once

    def test(self, flow: Flow, said: Said) -> str:
        """What a real look at an intake that changes nothing found. Raises `IntakeFailed`, `NoFlow`."""
        with self.asking(flow, said) as found:
            return found.source.test()

    def take_one(self, flow: Flow, name: str, intake: str = "") -> list[Arrived]:
        """Take in one thing that a person asked for, by its identity or its name. Raises `NoFlow` when none holds it, `IntakeFailed`, and `StoreFailed`."""
        for said in flow.intakes:
            if intake not in ("", said.name) or (self._kinds.intakes[said.kind].build is None and not intake):
                continue
            with self.asking(flow, said) as found:
                self._taking.row(flow, said, found.place)
                thing = _called(found.source.there(), name)
                if thing is not None:
                    return self._taking.one(flow, said, found.source, thing)
        raise NoFlow(f"No intake of the flow {flow.name} holds {name!r}. `metrikon intakes preview {flow.name}` lists what is there.")


@dataclass(frozen=True)
class Looked:
    """What came of a look: how many things were taken, whether it failed, and how many seconds its server asks to wait."""

    count: int
    failed: bool = False
    wait: float | None = None


def _place_of(touched: Touched | None, said: Said) -> tuple[str, ...]:
    """What tells whether an intake and a destination are the same place: a file, or a table of a database."""
    table, connection = str(getattr(said.form, "table", None) or ""), getattr(said.form, "connection", None)
    if touched is not None and touched.path is not None:
        return str(touched.path.resolve()), table
    return (str(connection), table) if connection and table else ()


class _Slow(threading.Thread):
    """Looks at one intake that takes its time."""

    def __init__(self, watching: Watching, flow: Flow, said: Said) -> None:
        super().__init__(name=f"intake {flow.name} {said.name}", daemon=True)
        self.watching, self.flow, self.said = watching, flow, said
        self._end = threading.Event()

    @property
    def stopped(self) -> bool:
        """Whether it looks no more."""
        return self._end.is_set()

    def stop(self) -> None:
        """Look no more."""
        self._end.set()

    def run(self) -> None:
        failed = 0
        while not self._end.is_set():
            try:
                looked = self.watching.look(self.flow, self.said, self._end.is_set)
            except Exception:
                log.exception("intake %s of %s", self.said.name, self.flow.name)
                looked = Looked(0, failed=True)
            failed = failed + 1 if looked.failed else 0
            kept = self.watching.source(self.flow, self.said)
            if kept is None:
                self._end.wait(FIRST)
            elif looked.failed:
                self._end.wait(looked.wait or min(LONGEST, FIRST * 2 ** (failed - 1)))
            elif kept.source.waits and not looked.count:
                self._waits(kept.source)
            elif not looked.count:
                self._end.wait(kept.source.every)

    def _waits(self, source: Source) -> None:
        """Wait in short pieces, so that stopping does not take long."""
        until = time.monotonic() + source.every
        try:
            while not self._end.is_set() and time.monotonic() < until:
                if source.wait(min(source.every, 1.0)):
                    return
        except IntakeFailed:
            self._end.wait(1.0)  # the next look says what is wrong


def _called(things: Iterator[Thing], name: str) -> Thing | None:
    """The thing with an identity, else the newest of a name."""
    named: Thing | None = None
    for thing in things:
        if thing.identity == name:
            return thing
        if named is None and thing.name == name:
            named = thing
    return named
