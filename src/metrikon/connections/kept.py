"""Connections that are kept open for a moment, for what may be asked twice: a server may close one just when it is used again, and nobody knows then what it took."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Hashable, Iterator
from contextlib import contextmanager, suppress

import httpx

IDLE, MOST = 3.0, 8  # seconds for which one is kept, and how many to one place


class Kept:
    """Clients that were used a moment ago, by what they lead to."""

    def __init__(self) -> None:
        self._idle: dict[Hashable, list[tuple[float, httpx.Client]]] = {}
        self._lock = threading.Lock()

    @contextmanager
    def client(self, place: Hashable, make: Callable[[], httpx.Client]) -> Iterator[tuple[httpx.Client, bool]]:
        """A client, and whether it was used before; kept afterwards, unless what was done with it failed."""
        found = self._taken(place)
        client = found or make()
        try:
            yield client, found is not None
        except BaseException:
            client.close()
            raise
        with self._lock:
            self._idle.setdefault(place, []).append((time.monotonic(), client))

    def close(self) -> None:
        """Close all that nobody uses."""
        with self._lock:
            clients = [client for held in self._idle.values() for _, client in held]
            self._idle.clear()
        for client in clients:
            with suppress(Exception):
                client.close()

    def _taken(self, place: Hashable) -> httpx.Client | None:
        now = time.monotonic()
        with self._lock:
            old = []
            for each, held in list(self._idle.items()):
                fresh = [one for one in held if now - one[0] < IDLE][-MOST:]
                old += [client for at, client in held if (at, client) not in fresh]
                self._idle[each] = fresh
                if not fresh:
                    del self._idle[each]
            found = self._idle[place].pop()[1] if self._idle.get(place) else None
        for client in old:
            with suppress(Exception):
                client.close()
        return found
