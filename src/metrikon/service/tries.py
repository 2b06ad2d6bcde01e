"""Wrong passwords: a few are free, then each makes the wait for the next try longer, for this name from this address alone."""

from __future__ import annotations

import threading
from collections import OrderedDict
from dataclasses import dataclass
from typing import TypeVar

_Key = TypeVar("_Key", bound=object)

FREE = 5  # wrong passwords of a name from an address before one must wait
FIRST, LONGEST = 2.0, 900.0  # seconds to wait, doubled each time
FORGOTTEN = 3600.0  # seconds after which tries are forgotten
OF_ADDRESS = 60  # tries of an address, whatever the names, in ...
WITHIN = 600.0  # ... so many seconds
KEPT = 20_000  # names and addresses


class TooMany(Exception):
    """Too many tries; `wait`: seconds until the next may be made."""

    def __init__(self, wait: float) -> None:
        super().__init__(f"Too many wrong passwords. Wait {_told(wait)}, then try again.")
        self.wait = wait


@dataclass
class _Tries:
    count: int = 0
    until: float = 0.0
    last: float = 0.0


class Tries:
    """Counts each try before its password is looked at, so that many at once are counted as exactly as one after the other. Times in seconds."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._of_name: OrderedDict[tuple[str, str], _Tries] = OrderedDict()
        self._of_address: OrderedDict[str, _Tries] = OrderedDict()

    def begin(self, address: str, name: str, now: float) -> None:
        """Count a try. Raises `TooMany`, which counts none."""
        with self._lock:
            own, all_ = _of(self._of_name, (address, name), now), _of(self._of_address, address, now)
            wait = max(own.until, all_.until) - now
            if wait > 0:
                raise TooMany(wait)
            own.count += 1
            own.last = now
            if own.count >= FREE:
                own.until = now + min(LONGEST, FIRST * 2 ** (own.count - FREE))
            if all_.count == 0 or now - all_.last > WITHIN:
                all_.count, all_.last = 0, now  # `last` is here when the count began
            all_.count += 1
            if all_.count >= OF_ADDRESS:
                all_.until = all_.last + WITHIN

    def right(self, address: str, name: str) -> None:
        """The password was right: the tries of this name from this address are forgotten, and that one is no try of the address."""
        with self._lock:
            self._of_name.pop((address, name), None)
            if address in self._of_address:
                self._of_address[address].count -= 1
                self._of_address[address].until = 0.0


def _of(kept: OrderedDict[_Key, _Tries], key: _Key, now: float) -> _Tries:
    found = kept.pop(key, None)
    if found is None or (now - found.last > FORGOTTEN and now > found.until):
        found = _Tries()
    kept[key] = found
    while len(kept) > KEPT:
        kept.popitem(last=False)
    return found


def _told(seconds: float) -> str:
    whole = max(1, round(seconds))
    return f"{whole} second{'s' if whole != 1 else ''}" if whole < 90 else f"{round(whole / 60)} minutes"
