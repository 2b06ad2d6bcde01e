"""The room that is left on the disk of the service's folder: taking in stops before it is used up, so that what is under way can end."""

from __future__ import annotations

import shutil
from pathlib import Path

from metrikon.ports.machine import NoRoom


class Room:
    """The disk that a folder is on. `least`: megabytes that must be free for more to be taken in; 0: taken in until it is full."""

    def __init__(self, home: Path, least: int) -> None:
        self._home = home
        self._least = least

    def problem(self) -> str:
        """Why nothing more is taken in, or nothing."""
        free = shutil.disk_usage(self._home).free // 1_000_000
        if free >= self._least:
            return ""
        return (
            f"The disk is nearly full: {free:,} MB are free, and {self._least:,} MB are kept for what is under way (setting free_mb). "
            "Nothing is taken in until there is room; then it goes on by itself."
        )

    def want(self) -> None:
        """Room for more is wanted. Raises `NoRoom`."""
        problem = self.problem()
        if problem:
            raise NoRoom(problem)
