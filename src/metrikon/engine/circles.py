"""Circles: a flow whose own doings come in again. What is sent carries how deep it is, and no intake takes more in an hour than is set.

A thing that was sent by a flow and comes in again is one deeper than the item because of which it was sent; from a depth on it is let go. What cannot carry
that (a row, a file) is braked by the number of things that an intake takes in an hour.
"""

from __future__ import annotations

import threading
from collections import defaultdict, deque

from metrikon.ports.behalf import RUNS
from metrikon.ports.clock import Clock
from metrikon.ports.intake import DEPTH_HEADER, IntakeFailed
from metrikon.store import items
from metrikon.store.database import Database

DEEPEST = 5  # flows that hand on to each other are two or three deep; a circle is as deep as it is let
HOUR, MINUTE = 3_600_000, 60_000  # milliseconds


def too_deep(depth: int) -> str:
    """Why something is let go that came in so deep; nothing where it is not."""
    if depth <= DEEPEST:
        return ""
    return f"It goes round in a circle: what flows send has come in again {depth} times over. Look which flow sends to the address that this one takes from."


class Depths:
    """How deep what is sent now is."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def header(self) -> dict[str, str]:
        """The mark that what is sent carries; none where nobody sends it because of an item."""
        run_ids = RUNS.get()
        if not run_ids:
            return {}
        with self._database.reading() as connection:
            return {DEPTH_HEADER: str(items.deepest(connection, run_ids) + 1)}


class Pace:
    """How many things each intake has taken within an hour, counted by minutes. `most`: how many it may; 0: as many as there are."""

    def __init__(self, clock: Clock, most: int) -> None:
        self._clock, self._most = clock, most
        self._taken: defaultdict[tuple[str, str], deque[list[int]]] = defaultdict(deque)  # (minute, count), the oldest first
        self._allowed: defaultdict[tuple[str, str], int] = defaultdict(int)  # that somebody has agreed to besides
        self._lock = threading.Lock()

    def allow(self, flow: str, intake: str, count: int) -> None:
        """So many more were agreed to by a person."""
        with self._lock:
            self._allowed[flow, intake] += count

    def look(self, flow: str, intake: str) -> None:
        """Raises `IntakeFailed` where as many were taken as may be, which tells when there is room."""
        key = (flow, intake)
        with self._lock:
            taken = self._within_an_hour(key)
            if not self._full(taken) or self._allowed[key] > 0:
                return
        wait = max(1.0, (taken[0][0] + HOUR - self._clock.now()) / 1000)
        raise IntakeFailed(
            f"It has taken {self._most:,} things within an hour, which is the most (setting items_an_hour). It goes on by itself in {wait / 60:.0f} minutes. If "
            "it takes in what its own flow writes or sends, switch the flow off and change one of the two places.",
            wait=wait,
        )

    def took(self, flow: str, intake: str) -> None:
        """Count one that was taken; beyond the limit it is one of those that were agreed to."""
        key, minute = (flow, intake), self._clock.now() // MINUTE * MINUTE
        with self._lock:
            taken = self._within_an_hour(key)
            if self._full(taken):
                self._allowed[key] -= 1
                return
            if not taken or taken[-1][0] != minute:
                taken.append([minute, 0])
            taken[-1][1] += 1

    def _within_an_hour(self, key: tuple[str, str]) -> deque[list[int]]:
        taken = self._taken[key]
        while taken and taken[0][0] <= self._clock.now() - HOUR:
            taken.popleft()
        return taken

    def _full(self, taken: deque[list[int]]) -> bool:
        return bool(self._most) and sum(count for _, count in taken) >= self._most
