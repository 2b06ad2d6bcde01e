"""Clock: time, ids and chance come from one place, so that tests can hold them still."""

from __future__ import annotations

import secrets
import threading
import time
from typing import Protocol

_ALPHABET = "0123456789abcdefghjkmnpqrstvwxyz"
_PAIRS = [one + two for one in _ALPHABET for two in _ALPHABET]


class Clock(Protocol):
    """Time in milliseconds since 1970 (UTC), ids that sort by time, and numbers from 0 to 1."""

    def now(self) -> int: ...

    def new_id(self) -> str: ...

    def chance(self) -> float: ...

    def wait(self, event: threading.Event, seconds: float) -> bool:
        """Wait for an event, at most some seconds; whether it happened."""
        ...


class SystemClock:
    """The clock of the machine."""

    def now(self) -> int:
        return time.time_ns() // 1_000_000

    def new_id(self) -> str:
        """26 letters: 48 bits of milliseconds, then 80 bits of chance, in an alphabet without look-alikes."""
        return encoded(self.now() << 80 | secrets.randbits(80))

    def chance(self) -> float:
        return secrets.randbelow(1_000_000) / 1_000_000

    def wait(self, event: threading.Event, seconds: float) -> bool:
        return event.wait(seconds)


class StillClock:
    """A clock that stands still until it is moved: for tests."""

    def __init__(self, start: int = 1_767_225_600_000) -> None:
        self.at = start
        self._count = 0

    def now(self) -> int:
        return self.at

    def new_id(self) -> str:
        self._count += 1
        return encoded(self.at << 80 | self._count)

    def chance(self) -> float:
        return 0.5

    def wait(self, event: threading.Event, seconds: float) -> bool:
        self.at += int(seconds * 1000)
        return event.is_set()


def encoded(number: int) -> str:
    """A number of at most 130 bits as 26 letters that sort as the numbers do."""
    return "".join([_PAIRS[number >> shift & 1023] for shift in range(120, -1, -10)])
