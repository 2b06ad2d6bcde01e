"""Ways in, kept in versions; screens on which they are worked, and what was entered by them."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

from metrikon.connections.browser import browser
from metrikon.connections.screen import BrowserScreen
from metrikon.connections.veiled import Veil, VeiledScreen
from metrikon.core.entering.way import BadWay, WayIn, way_from
from metrikon.core.flows.connecting import origin
from metrikon.core.flows.text import NotYaml, from_yaml
from metrikon.engine.outside import Outside
from metrikon.ports.clock import Clock
from metrikon.ports.screen import Screen
from metrikon.store import entered, flows
from metrikon.store.database import Database


@dataclass(frozen=True)
class EnteredSoFar:
    """How far an entry on a screen has come: `done` things of so many `in_all`, and the one that is done now."""

    done: int
    in_all: int
    at: str


class Ways:
    """What is kept, and how it is used."""

    def __init__(
        self, database: Database, clock: Clock, outside: Callable[[], Outside], *, private: bool, proxy: str = "", trusted: str = ""
    ) -> None:
        self._database, self._clock, self._outside = database, clock, outside
        self._private, self._proxy, self._trusted = private, proxy, trusted
        self._parsed: dict[tuple[str, int], WayIn] = {}
        self._turns: dict[str, threading.Lock] = {}  # one screen of a program at a time
        self._lock = threading.Lock()
        self._far: dict[str, EnteredSoFar] = {}  # by the run that enters; it is told to people, and lost with the process

    def get(self, name: str, version: int | None = None) -> tuple[WayIn, int]:
        """A way in and its version, the newest without one. Raises KeyError."""
        with self._database.reading() as connection:
            row = flows.get_way(connection, name, version)
        if row is None:
            raise KeyError(f"There is no way in {name!r}.")
        wanted = int(row["version"])
        if (name, wanted) not in self._parsed:
            self._parsed[name, wanted] = way_in(row["text"])
        return self._parsed[name, wanted], wanted

    def put(self, text: str) -> tuple[WayIn, int]:
        """Check and keep a way in; it, and its version. Raises `BadWay`."""
        way = way_in(text)
        at = self._clock.now()
        return way, self._database.write(lambda connection: flows.put_way(connection, way.way, text, at))

    def all(self) -> list[dict[str, Any]]:
        """The newest version of every way in, by name: its text and when it was kept."""
        with self._database.reading() as connection:
            return flows.all_ways(connection)

    def takes(self) -> Mapping[str, list[str]]:
        """What each way in takes, by its name."""
        return {row["name"]: self.get(row["name"], row["version"])[0].takes for row in self.all()}

    @contextmanager
    def screen(self, connection: str, patience: float) -> Iterator[Screen]:
        """A screen of the program behind a connection, in its turn. `patience`: seconds for which it is waited for. Raises `FetchFailed`."""
        outside = self._outside()
        outside.connections.at(connection, "")
        with self._lock:
            turn = self._turns.setdefault(connection, threading.Lock())
        with turn, outside.worked(connection, "screen"), self._browser() as (driver, guard):
            at = outside.connections.at
            _, host, port = origin(at(connection, ""))
            veil = Veil(lambda mask: guard.keep_in(host, port, mask))

            def signing() -> tuple[str, str]:
                user, secret = outside.connections.signing(connection)
                veil.over(secret)
                return user, secret

            yield VeiledScreen(BrowserScreen(driver, lambda path: at(connection, path), signing, patience, guard.fresh, guard.refused), veil)

    def _browser(self) -> Any:
        return browser(private=self._private, proxy=self._proxy, trusted=self._trusted)

    def far(self, run_id: str) -> EnteredSoFar | None:
        """How far a run is that enters something just now."""
        return self._far.get(run_id)

    @contextmanager
    def telling(self, run_id: str) -> Iterator[Callable[[int, int, str], None]]:
        """What is to be told, while a run enters something, of how far it is."""

        def tell(done: int, in_all: int, at: str) -> None:
            self._far[run_id] = EnteredSoFar(done, in_all, at)

        try:
            yield tell
        finally:
            self._far.pop(run_id, None)

    def begin(self, key: str, run_id: str, path: str) -> tuple[str, str, str] | None:
        """Note that something is being entered, or who did so before: (state, run, path)."""
        now = self._clock.now()
        return self._database.write(lambda connection: entered.begin(connection, key, run_id, path, now))

    def forget(self, key: str) -> None:
        """It was not entered after all."""
        self._database.write(lambda connection: entered.forget(connection, key))


def way_in(text: str) -> WayIn:
    """The way in that a text (YAML) says. Raises `BadWay`."""
    try:
        return way_from(from_yaml(text))
    except NotYaml as error:
        raise BadWay([("", str(error))]) from error
