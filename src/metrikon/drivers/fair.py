"""A few things that many want, shared fairly: whoever has the fewest of them gets the next one, so that a crowd holds nobody up."""

from __future__ import annotations

import threading
from collections import Counter, OrderedDict, deque
from collections.abc import Callable
from typing import Generic, TypeVar

from metrikon.ports.behalf import BEHALF

T = TypeVar("T")


class FairShare(Generic[T]):
    """Things that are lent, one to each who asks. Of those who wait, the party that has the fewest comes first; among equals each has its turn."""

    def __init__(self, things: list[T]) -> None:
        self._free = list(things)
        self._lock = threading.Lock()
        self._lent: Counter[str] = Counter()
        self._waiting: OrderedDict[str, deque[_Wait[T]]] = OrderedDict()

    def take(self, rather: Callable[[T], bool] = lambda thing: False) -> T:
        """One of the things, for the party on whose behalf this thread works; waits until one is free. `rather`: which ones suit it best."""
        party = BEHALF.get()
        with self._lock:
            if self._free and not self._waiting:
                self._lent[party] += 1
                return self._free.pop(next((at for at, thing in enumerate(self._free) if rather(thing)), -1))
            wait: _Wait[T] = _Wait(rather)
            self._waiting.setdefault(party, deque()).append(wait)
        wait.come.wait()
        return wait.thing[0]

    def give(self, thing: T) -> None:
        """Give a thing back: it goes to whoever is next."""
        with self._lock:
            party = BEHALF.get()
            self._lent[party] -= 1
            if self._lent[party] <= 0:
                del self._lent[party]
            if not self._waiting:
                self._free.append(thing)
                return
            follows = min(self._waiting, key=lambda each: self._lent[each])
            waits = self._waiting[follows]
            wait = next((each for each in waits if each.rather(thing)), waits[0])
            waits.remove(wait)
            if waits:
                self._waiting.move_to_end(follows)  # of those with equally few, each has its turn
            else:
                del self._waiting[follows]
            self._lent[follows] += 1
        wait.thing.append(thing)
        wait.come.set()

    def idle(self) -> list[T]:
        """Take all that are free, for good."""
        with self._lock:
            found, self._free = self._free, []
        return found


class _Wait(Generic[T]):
    def __init__(self, rather: Callable[[T], bool]) -> None:
        self.rather = rather
        self.come = threading.Event()
        self.thing: list[T] = []
