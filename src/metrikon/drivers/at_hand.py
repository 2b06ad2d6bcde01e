"""What was worked out last, kept for the next question about it: so much of it, by its size."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Generic, TypeVar

T = TypeVar("T")


class AtHand(Generic[T]):
    """Keeps what was made for the keys that were asked for last: at most so many, and at most so much by size, the last one aside."""

    def __init__(self, most: int, largest: int) -> None:
        self.most = most
        self.largest = largest
        self._kept: OrderedDict[Hashable, tuple[T, int]] = OrderedDict()
        self._size = 0

    def get(self, key: Hashable, make: Callable[[], tuple[T, int]]) -> T:
        """What is kept for a key; else it is made, with its size."""
        if key in self._kept:
            self._kept.move_to_end(key)
            return self._kept[key][0]
        made = self._kept[key] = make()
        self._size += made[1]
        while len(self._kept) > 1 and (len(self._kept) > self.most or self._size > self.largest):
            self._size -= self._kept.popitem(last=False)[1][1]
        return made[0]
