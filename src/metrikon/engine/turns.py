"""Limits of flows and of hosts: how many calls a minute, and how many at once. Who is over one waits for a turn, which counts as no failure."""

from __future__ import annotations

import threading
from collections import Counter, deque
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from metrikon.ports.clock import Clock

MINUTE = 60_000
SOON = 0.5  # seconds after which it is asked again for one of a few at once


class NoTurn(Exception):
    """It is not one's turn; `wait`: seconds after which it may be."""

    def __init__(self, message: str, wait: float) -> None:
        super().__init__(message)
        self.wait = wait


class Turns:
    """Counts what was begun within a minute, and what is under way; safe from several threads."""

    def __init__(self, clock: Clock, of_flow: Callable[[str], int]) -> None:
        self._clock = clock
        self._of_flow = of_flow  # calls a minute that a flow may make; 0: no limit
        self._lock = threading.Lock()
        self._recent: dict[str, deque[int]] = {}
        self._under_way: Counter[str] = Counter()

    def call(self, flow: str) -> None:
        """A call that a flow makes of what is outside. Raises `NoTurn`."""
        self._begin(f"flow {flow}", self._of_flow(flow), f"The flow {flow}")

    @contextmanager
    def at(self, host: str, a_minute: int, at_once: int) -> Iterator[None]:
        """A call of a host, while it is under way. Raises `NoTurn`."""
        name = f"host {host}"
        with self._lock:
            if at_once and self._under_way[name] >= at_once:
                raise NoTurn(f"{at_once} calls of {host} are under way, as many as are allowed.", SOON)
            self._under_way[name] += 1
        try:
            self._begin(name, a_minute, f"The host {host}")
            yield
        finally:
            with self._lock:
                self._under_way[name] -= 1
                if self._under_way[name] <= 0:
                    del self._under_way[name]

    def _begin(self, name: str, a_minute: int, told: str) -> None:
        if not a_minute:
            return
        now = self._clock.now()
        with self._lock:
            recent = self._recent.setdefault(name, deque())
            while recent and recent[0] <= now - MINUTE:
                recent.popleft()
            if len(recent) >= a_minute:
                raise NoTurn(f"{told} has had its {a_minute} calls of this minute.", max(0.1, (recent[0] + MINUTE - now) / 1000))
            recent.append(now)
