"""Intakes that are looked at again and again; and what is to be done besides, every moment or every hour."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from metrikon.app.kinds import Kinds
from metrikon.core.flows.model import Flow, Said
from metrikon.core.flows.problems import BadFlow
from metrikon.engine.arrivals import Arrivals, NoFlow
from metrikon.engine.catalog import Catalog
from metrikon.engine.opening import may_hold
from metrikon.ports.intake import Looked, Take, There, opened
from metrikon.ports.machine import NoRoom
from metrikon.store import flows
from metrikon.store.database import Database, StoreFailed
from metrikon.store.items import Arrived
from metrikon.store.room import Room

log = logging.getLogger("metrikon.app")
HOUR = 3600.0  # seconds
SCAN = 0.1  # seconds between looks, at least
REST = 10  # times that a look took which found nothing: so long is rested after it


class Watching:
    """Looks at the intakes of flows that are switched on. `often`: done at every look, `hourly`: every hour."""

    def __init__(
        self,
        database: Database,
        catalog: Catalog,
        arrivals: Arrivals,
        room: Room,
        barred: Callable[[Said], str],
        kinds: Kinds,
        home: Path,
        largest: int,
        often: Sequence[Callable[[], object]],
        hourly: Sequence[Callable[[], object]],
    ) -> None:
        self._database, self._catalog, self._arrivals, self._kinds = database, catalog, arrivals, kinds
        self._barred = barred  # why an intake may not be looked at, or nothing
        self._not_allowed: list[dict[str, Any]] = []  # as of the last look
        self._room, self._home, self._largest = room, home, largest
        self._often, self._hourly = often, hourly
        self._looked: dict[tuple[str, Said], tuple[str, Looked]] = {}
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

    def problems(self) -> list[dict[str, Any]]:
        """What intakes could not take, with the flow and the reason."""
        found = [{"flow": "", "folder": "", "message": problem}] if (problem := self._room.problem()) else []
        found += self._not_allowed
        for (flow, _), (place, looked) in list(self._looked.items()):  # a scan may add one meanwhile
            found += [{"flow": flow, "folder": place, "message": message} for message in list(looked.problems.values())]
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
        """Look at all intakes; how many things were taken."""
        if self._room.problem():
            return 0  # what is there stays where it is
        with self._database.reading() as connection:
            running = flows.running(connection)
        not_allowed: list[dict[str, Any]] = []
        count = 0
        for name, version in running:
            try:
                flow = self._catalog.flow(name, version)
            except BadFlow:
                continue  # kept by an older version of the program; the service says so when it is opened
            for said in flow.intakes:
                if problem := self._barred(said):
                    not_allowed.append({"flow": flow.name, "folder": "", "message": f"{flow.name}: {problem}"})
                elif not self._stop.is_set():
                    count += self._look(flow.name, said)
        self._not_allowed = not_allowed
        return count

    def there(self, flow: Flow) -> list[tuple[str, There]]:
        """What the intakes of a flow would take, each with the place that it is at, whether the flow is switched on or not."""
        every = [found for said in flow.intakes if (found := self._of(flow.name, said))]
        return [(place, each) for place, looked in every for each in looked.there()]

    def take_one(self, flow: Flow, name: str) -> list[Arrived]:
        """Take in one thing that a person asked for. Raises `NoFlow` when no intake of the flow holds it, and `StoreFailed`."""
        arrived: list[Arrived] = []
        for said in flow.intakes:
            if problem := self._barred(said):
                raise NoFlow(problem)
            found = self._of(flow.name, said)
            if found and found[1].one(name, self._taking(flow.name, said, arrived)):
                return arrived
        raise NoFlow(f"No intake of the flow {flow.name} holds {name!r}. `metrikon flows take {flow.name}` lists what is there.")

    def _of(self, flow: str, said: Said) -> tuple[str, Looked] | None:
        """What looks at an intake, and where; None for one that is sent to the service."""
        kind = self._kinds.intakes[said.kind]
        if kind.build is None:
            return None
        if self._barred(said):
            return None
        with self._lock:
            if (flow, said) not in self._looked:
                for other in [each for each in self._looked if each[0] == flow and self._looked[each][0] == kind.place(said.form, self._home)]:
                    del self._looked[other]  # of an earlier version of the flow
                self._looked[flow, said] = (kind.place(said.form, self._home), kind.build(said.form, self._home, self._largest))
            return self._looked[flow, said]

    def _taking(self, flow: str, said: Said, arrived: list[Arrived] | None = None) -> Take:
        """How an intake hands on what it takes; what arrived is noted where a person asked for it."""
        asked = arrived is not None

        def take(identity: str, name: str, data: bytes) -> Callable[[], object]:
            if opened(said.form) and may_hold(data):
                found = self._arrivals.take_opened(flow, said.kind, identity, name, data, asked=asked)
            elif asked:
                found = [self._arrivals.begin(flow, said.kind, identity, name, data, asked=True).result()]
            else:
                return self._arrivals.begin(flow, said.kind, identity, name, data).result
            if arrived is not None:
                arrived.extend(found)
            return lambda: found

        return take

    def _look(self, flow: str, said: Said) -> int:
        """Look at an intake of a flow, if it is one that must be looked at; how many things were taken."""
        found = self._of(flow, said)
        if found is None:
            return 0
        try:
            return found[1].look(time.monotonic(), self._taking(flow, said))
        except (NoFlow, NoRoom, StoreFailed, OSError) as error:
            log.error("%s of flow %s: %s", found[0] or said.kind, flow, error)
            return 0
