"""Every call that goes out of the house for a flow: in turn, signed in where a connection is named, at an address that was checked."""

from __future__ import annotations

from dataclasses import replace
from urllib.parse import urlsplit

from metrikon.connections.fetching import Fetched, FetchFailed, Wanted, fetch
from metrikon.connections.imap import Mailserver
from metrikon.engine.connecting import Connections
from metrikon.engine.turns import NoTurn, Turns
from metrikon.ports.behalf import BEHALF, flow_of


class Outside:
    """Calls outside services. `private`: whether addresses of private networks may be called; `limits`: calls of a host a minute, and at once."""

    def __init__(self, connections: Connections, turns: Turns, *, private: bool, limits: tuple[int, int]) -> None:
        self.connections, self._turns, self._private, self._limits = connections, turns, private, limits

    def fetch(self, wanted: Wanted) -> Fetched:
        """A page or a file, as it is now. With a connection its address is that of the connection and what is wanted after it. Raises `FetchFailed`."""
        if not wanted.connection:
            return self._in_turn(wanted)
        wanted = replace(wanted, url=self.connections.at(wanted.connection, wanted.url))
        try:
            found = self._in_turn(replace(wanted, signed=self.connections.signed(wanted.connection)))
        except FetchFailed as error:
            if error.cause != "turn":
                self.connections.came(wanted.connection, str(error))
            raise
        self.connections.came(wanted.connection)
        return found

    def _in_turn(self, wanted: Wanted) -> Fetched:
        """What is fetched, when it is the turn of the flow and of the host."""
        host = urlsplit(wanted.url).hostname or ""
        try:
            with self._turns.at(host, *self._limits):
                self._turns.call(flow_of(BEHALF.get()))
                return fetch(replace(wanted, private=self._private))
        except NoTurn as error:
            raise FetchFailed(str(error), cause="turn", wait=error.wait) from error

    def mail(self, connection: str) -> Mailserver:
        """A client that is signed in at a mail server. Raises `FetchFailed`; that it fails, or works again, is noted."""
        try:
            client = self.connections.mail(connection)
        except FetchFailed as error:
            self.connections.came(connection, str(error))
            raise
        self.connections.came(connection)
        return client
