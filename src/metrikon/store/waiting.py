"""Changes that wait for the writer: those of one party in order, between parties whoever has the fewest first, so that a crowd holds nobody up."""

from __future__ import annotations

import threading
import time
from collections import OrderedDict, deque
from typing import Generic, TypeVar

T = TypeVar("T")
LONG = 0.1  # seconds; whoever waited longer comes first, however many wait with it


class Waiting(Generic[T]):
    """A queue between many threads and one that takes. It ends once: what was put before that is still given out."""

    def __init__(self) -> None:
        self._parties: OrderedDict[str, deque[tuple[float, T]]] = OrderedDict()
        self._changed = threading.Condition()
        self._ended = False

    def put(self, party: str, thing: T) -> bool:
        """Let a thing wait for a party; False when the queue has ended."""
        with self._changed:
            if self._ended:
                return False
            self._parties.setdefault(party, deque()).append((time.monotonic(), thing))
            self._changed.notify()
            return True

    def end(self) -> bool:
        """Nothing comes any more; False when that was said before."""
        with self._changed:
            first, self._ended = not self._ended, True
            self._changed.notify()
            return first

    def next(self) -> tuple[str, T] | None:
        """Whose turn it is, and the first of its things; waits for one. None at the end."""
        with self._changed:
            while not self._parties:
                if self._ended:
                    return None
                self._changed.wait()
            now = time.monotonic()
            party = min(self._parties, key=lambda each: -1 if self._parties[each][0][0] < now - LONG else len(self._parties[each]))
            return party, self._first(party)

    def more(self, party: str, had: int) -> T | None:
        """A further thing of a party that had so many of late. None when there is none, or when another waits that has fewer."""
        with self._changed:
            if party not in self._parties:
                return None
            most = had + len(self._parties[party])
            if any(len(others) < most for each, others in self._parties.items() if each != party):
                return None
            return self._first(party)

    def _first(self, party: str) -> T:
        things = self._parties[party]
        thing = things.popleft()[1]
        if things:
            self._parties.move_to_end(party)  # of those with equally few, each has its turn
        else:
            del self._parties[party]
        return thing
