"""Connections to the service: slow and idle ones give way, so that nobody keeps others out by holding many."""

from __future__ import annotations

import resource
import threading
import time
from collections.abc import Iterator
from typing import Any

from waitress import wasyncore
from waitress.channel import HTTPChannel

from metrikon.service.parsing import Parser

MOST = 2000  # connections in all
MOST_OF_ONE = 100  # connections of one address: one more lets go of the one that has been idle longest
IDLE = 15  # seconds that a connection may be silent between requests
PATIENCE = 20.0  # seconds in which a request must have come whole ...
SLOWEST = 10_000  # ... and as many more as its bytes take at so many a second
LAST = 5.0  # seconds that requests being answered have left when the service ends ...
SENDING = 1.0  # ... and what they were answered, to be on its way
FILES = 8192  # that the process may have open, connections among them


class Channel(HTTPChannel):  # type: ignore[misc]
    """A connection that is let go when a request on it takes too long to come."""

    parser_class = Parser

    def __init__(self, server: Any, sock: Any, addr: Any, adj: Any, map: Any = None) -> None:
        super().__init__(server, sock, addr, adj, map=map)
        self.began = self.bytes = 0.0
        own = [each for each in server.active_channels.values() if each is not self and each.addr[0] == addr[0]]
        if len(own) >= server.most_of_one:
            _let_go_of_one(own)

    def received(self, data: bytes) -> Any:
        if self.request is None:
            self.began, self.bytes = time.time(), 0
        self.bytes += len(data)
        return super().received(data)

    def late(self, now: float) -> bool:
        """Whether a request is on its way for longer than it may be."""
        return self.request is not None and now > self.began + PATIENCE + self.bytes / SLOWEST


def _let_go_of_one(own: list[Channel]) -> None:
    """End the connection that waits longest for a request; none while all of them are being answered."""
    idle = [each for each in own if not each.requests and not each.will_close]
    if idle:
        min(idle, key=lambda each: each.last_activity).handle_close()


def guard(server: Any, *, trusted: str, early: Any = None) -> None:
    """Let a server let go of connections that are slow, and of those of an address that holds many. A `trusted` proxy may hold them all. `early`: what looks at
    the head of a request before its body is taken (`early.Early`)."""
    server.ending = threading.Event()
    for each in listening(server):
        each.channel_class = Channel
        each.adj.early = early
        each.most_of_one = MOST if trusted else MOST_OF_ONE
        each.maintenance = _Maintenance(each)
        each.pull_trigger = _Bell(each.trigger)


def run(server: Any) -> None:
    """Answer until `end`, or until an exception that a signal raised."""
    while not server.ending.is_set():
        wasyncore.loop(timeout=1.0, use_poll=True, map=_map_of(server), count=1)
    _end(server)


def end(server: Any, loop: threading.Thread | None = None) -> None:
    """Take no more connections, let what is being answered be answered, then close every connection.

    `loop`: the thread in which the server runs, if not this one. Whoever still answers after `LAST` seconds reaches nobody.
    """
    if loop is None or not loop.is_alive():
        server.ending.set()
        _end(server)
    elif not server.ending.is_set():
        server.ending.set()
        for each in list(listening(server)):
            each.pull_trigger()  # it wakes up to it
        loop.join(2 * LAST + SENDING)


def _end(server: Any) -> None:
    """In the thread that looked after the connections, or once that is gone."""
    open_ones = list(listening(server))
    for each in open_ones:
        wasyncore.dispatcher.close(each)  # its trigger stays: those who answer pull it
    server.task_dispatcher.shutdown(timeout=LAST)
    connections, until = _map_of(server), time.monotonic() + SENDING
    while time.monotonic() < until and any(getattr(each, "total_outbufs_len", 0) for each in connections.values()):
        wasyncore.loop(timeout=0.05, use_poll=True, map=connections, count=1)
    for each in open_ones:
        each.pull_trigger.close()
    for each in list(connections.values()):
        each.handle_close()


class _Bell:
    """Wakes the loop of a server; once it is closed nobody is woken, for its number may be another file's from then on."""

    def __init__(self, trigger: Any) -> None:
        self._trigger, self._lock, self._closed = trigger, threading.Lock(), False

    def __call__(self) -> None:
        with self._lock:
            if not self._closed:
                self._trigger.pull_trigger()

    def close(self) -> None:
        with self._lock:
            self._closed = True
            self._trigger.close()


class _Maintenance:
    """What a server does for its connections every few seconds."""

    def __init__(self, server: Any) -> None:
        self._server, self._before = server, server.maintenance

    def __call__(self, now: float) -> None:
        self._before(now)
        for channel in list(self._server.active_channels.values()):
            if channel.late(now):
                channel.will_close = True


def _map_of(server: Any) -> dict[int, Any]:
    """What the loop of a server looks at, by number: of one socket, or of several."""
    found: dict[int, Any] = server._map if hasattr(server, "_map") else server.map
    return found


def listening(server: Any) -> Iterator[Any]:
    """The sockets that are listened on."""
    return (each for each in _map_of(server).values() if hasattr(each, "active_channels"))


def port_of(server: Any) -> int:
    """The port that is listened on; the first, where a host has several addresses."""
    return int(next(listening(server)).effective_port)


def allow_files() -> None:
    """Let the process have many files open, as far as the machine lets it."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = FILES if hard == resource.RLIM_INFINITY else min(FILES, hard)
    if soft < wanted:
        resource.setrlimit(resource.RLIMIT_NOFILE, (wanted, hard))
