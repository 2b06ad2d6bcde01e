"""Every call that goes out of the house for a flow: in turn, signed in where a connection is named, at an address that was checked, and on record."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from typing import TypeVar
from urllib.parse import urlsplit, urlunsplit

from sqlalchemy import Engine

from metrikon.connections.browser import drawn
from metrikon.connections.fetching import Fetched, FetchFailed, Wanted, fetch
from metrikon.connections.imap import Mailserver
from metrikon.connections.kept import Kept
from metrikon.connections.smtp import Sender
from metrikon.connections.sql import server_engine
from metrikon.core.services.description import Description
from metrikon.core.services.notes import Notes
from metrikon.core.services.resting import rest, until
from metrikon.core.values.text import clean
from metrikon.engine import masked
from metrikon.engine.budget import Breaker
from metrikon.engine.called import Called
from metrikon.engine.circles import Depths
from metrikon.engine.connecting import Connections
from metrikon.engine.turns import NoTurn, Turns
from metrikon.ports.behalf import BEHALF, flow_of
from metrikon.ports.clock import Clock
from metrikon.ports.model import ModelDown
from metrikon.store.database import Database

T = TypeVar("T")
LOOKING = ("GET", "HEAD", "PROPFIND", "REPORT")  # methods that start nothing at the other end
NOT_LET_IN = (401, 403, 407)
LONGEST_WAIT = 3600.0  # seconds that a server may ask to wait


class Outside:
    """Calls outside services. `private`: whether addresses of private networks may be called; `limits`: calls of a host a minute, and at once.

    A connection whose server says how long to wait is left alone for so long; one that fails again and again rests, longer each time.
    """

    def __init__(
        self,
        database: Database,
        clock: Clock,
        known: Connections,
        turns: Turns,
        *,
        private: bool,
        limits: tuple[int, int],
        described: Callable[[str], tuple[Description, Notes] | None] = lambda name: None,
        seen: Callable[[str], Description | None] = lambda name: None,
        rest: float = 30.0,
        proxy: str = "",
        trusted: str = "",
    ) -> None:
        self.connections, self._turns, self._private, self._limits = known, turns, private, limits
        self._clock, self._proxy, self._trusted = clock, proxy, trusted
        self.described = described  # the service of a connection, and what was noted of it
        self.seen = seen  # the service alone
        self._breaker = Breaker(clock, rest, "connection")
        self._until: dict[str, int] = {}
        self._engines: dict[tuple[str, int], Engine] = {}
        self._kept = Kept()
        self.called = Called(database)
        self.depths = Depths(database)
        self._lock = threading.Lock()

    def fetch(self, wanted: Wanted) -> Fetched:
        """A page or a file, as it is now. With a connection its address is that of the connection and what is wanted after it. Raises `FetchFailed`."""
        if not wanted.connection:
            return self._in_turn(wanted)
        wanted = replace(wanted, url=self.connections.at(wanted.connection, wanted.url))
        if wanted.body is not None and "webhook-id" in wanted.more:
            signed = self.connections.signature(wanted.connection, wanted.more["webhook-id"], wanted.body)
            wanted = replace(wanted, more={**wanted.more, **signed})
        return self._by(
            wanted.connection,
            wanted.method,
            wanted.url,
            lambda: self._in_turn(replace(wanted, signed=self.connections.signed(wanted.connection))),
        )

    def mail(self, connection: str) -> Mailserver:
        """A client that is signed in at a mail server. Raises `FetchFailed`; that it fails, or works again, is noted."""
        address = str(self.connections.one(connection)["address"])
        return self._by(connection, "sign in", address, lambda: self.connections.mail(connection))

    def sender(self, connection: str) -> Sender:
        """A session at a server that takes mail. Raises `FetchFailed`."""
        address = str(self.connections.one(connection)["address"])
        return self._by(connection, "sign in", address, lambda: self.connections.sender(connection))

    def database(self, connection: str) -> Engine:
        """A server of databases; new connections to it are signed in with what is kept now. Raises `FetchFailed`."""
        row = self.connections.row(connection)
        address, known = str(row["address"]), (connection, int(row["put_at"]))
        with self._lock:
            if known not in self._engines:
                for former in [each for each in self._engines if each[0] == connection]:
                    self._engines.pop(former).dispose()
                self._engines[known] = server_engine(
                    address, lambda: self._by(connection, "sign in", address, lambda: self.connections.database(connection))
                )
            return self._engines[known]

    @contextmanager
    def worked(self, name: str, method: str) -> Iterator[None]:
        """Work at the place of a connection that is no single call: that it was done is on record, and whether it failed."""
        began, url = self._clock.now(), str(self.connections.one(name)["address"])
        try:
            yield
        except Exception as error:
            self._note(name, method, url, began, 0, 0, self.connections.mask(name).text(str(error)))
            raise
        self._note(name, method, url, began, 200, 0, "")

    def close(self) -> None:
        """Let go of connections that are held."""
        with self._lock:
            for engine in self._engines.values():
                engine.dispose()
            self._engines.clear()
        self._kept.close()
        self.called.settle()

    def _by(self, name: str, method: str, url: str, call: Callable[[], T]) -> T:
        """A call by a connection: what came of it is noted."""
        self._may(name)
        began = self._clock.now()
        try:
            found = call()
        except FetchFailed as error:
            masked.failure(error, self.connections.mask(name))
            if error.cause == "turn":
                self._breaker.left(name)
                raise
            self._breaker.bad(name) if error.cause else self._breaker.left(name)
            if error.wait:
                self._leave(name, error.wait)
            answers = not error.cause and error.status and error.status not in NOT_LET_IN  # what was asked for is not there: the service is
            self.connections.came(name, "" if answers else str(error))
            self._note(name, method, url, began, error.status, 0, str(error))
            raise
        self._breaker.good(name)
        self.connections.came(name)
        if not isinstance(found, Fetched):
            self._note(name, method, url, began, 200, 0, "")
            return found
        shown = masked.answer(found, self.connections.mask(name))
        self._note(name, method, url, began, shown.status, len(shown.data or b""), "")
        return shown  # type: ignore[return-value]

    def _may(self, name: str) -> None:
        """Raises `FetchFailed` while a connection is left alone."""
        left = (self._until.get(name, 0) - self._clock.now()) / 1000
        if left > 0:
            raise FetchFailed(f"The service of the connection {name} asked to wait; {left:.0f} seconds are left.", cause="turn", wait=left)
        try:
            self._breaker.check(name)
        except ModelDown as error:
            raise FetchFailed(str(error), cause="turn", wait=error.wait) from error

    def _note(self, name: str, method: str, url: str, began: int, status: int, size: int, error: str) -> None:
        parts = urlsplit(url)
        row = {
            "at": began,
            "connection": name,
            "flow": flow_of(BEHALF.get()),
            "method": method,
            "address": urlunsplit((parts.scheme, parts.netloc, parts.path, "", ""))[:400],
            "status": status,
            "size": size,
            "took": max(0, self._clock.now() - began),
            "error": clean(error)[:400],
        }
        self.called.note(row)

    def _in_turn(self, wanted: Wanted) -> Fetched:
        """What is fetched, when it is the turn of the flow and of the host."""
        host = urlsplit(wanted.url).hostname or ""
        noted = self.described(wanted.connection) if wanted.connection else None
        notes = noted[1] if noted is not None else Notes()
        try:
            with self._turns.at(host, notes.a_minute or self._limits[0], notes.at_once or self._limits[1]):
                self._turns.call(flow_of(BEHALF.get()))
                more = {**wanted.more, **(self.depths.header() if wanted.method not in LOOKING else {})}
                told = replace(wanted, more=more, private=self._private, proxy=self._proxy, trusted=self._trusted, kept=self._kept)
                found = drawn(told) if wanted.drawn else fetch(told)
        except NoTurn as error:
            raise FetchFailed(str(error), cause="turn", wait=error.wait) from error
        except FetchFailed as error:
            if notes.rate_headers is not None and error.cause == "busy" and not error.wait:
                error.wait = until(notes.rate_headers, error.headers, self._clock.now() / 1000) or None
            raise
        if notes.rate_headers is not None and (left := rest(notes.rate_headers, found.headers, self._clock.now() / 1000)):
            self._leave(wanted.connection, left)
        return found

    def _leave(self, name: str, seconds: float) -> None:
        """Let a connection alone for so long."""
        self._until[name] = self._clock.now() + int(min(seconds, LONGEST_WAIT) * 1000)
