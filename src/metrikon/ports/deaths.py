"""Deaths: how often a file has ended the process that opened it, by the hash of its bytes, whatever brought it."""

from __future__ import annotations

import threading
from typing import Protocol

KILLS = 3  # a file that ends the process that works on it this often is not tried again


class Deaths(Protocol):
    """What is known of them. Kept for a while, since another version or a larger machine may open what this one could not."""

    def any(self) -> bool:
        """Whether there is any file of which one is known: if not, none needs its hash worked out."""
        ...

    def count(self, sha256: str) -> int:
        """How many are known of a file."""
        ...

    def note(self, sha256: str, name: str) -> None:
        """One more."""
        ...


class RememberedDeaths:
    """In memory, for as long as the process lasts."""

    def __init__(self) -> None:
        self._known: dict[str, int] = {}
        self._lock = threading.Lock()

    def any(self) -> bool:
        return bool(self._known)

    def count(self, sha256: str) -> int:
        return self._known.get(sha256, 0)

    def note(self, sha256: str, name: str) -> None:
        with self._lock:
            self._known[sha256] = self._known.get(sha256, 0) + 1
