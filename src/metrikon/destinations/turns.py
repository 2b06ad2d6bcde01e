"""Whoever looks at a place before he writes there does both in one turn: two of this process never have the same place in hand."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from weakref import WeakValueDictionary


class _Turn:
    """A lock that can be referred to weakly."""

    def __init__(self) -> None:
        self.lock = threading.RLock()


_turns: WeakValueDictionary[str, _Turn] = WeakValueDictionary()
_guard = threading.Lock()


@contextmanager
def turn_at(place: str) -> Iterator[None]:
    """A turn at a place, waited for."""
    with _guard:
        turn = _turns.get(place) or _turns.setdefault(place, _Turn())
    with turn.lock:
        yield
