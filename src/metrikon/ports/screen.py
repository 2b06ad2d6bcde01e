"""Screen: a program that has only one, as a way in works on it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from metrikon.core.entering.way import Place, SignIn


class ScreenStopped(Exception):
    """What is on the screen is not what was to be there: the work stops at once. `passing`: the program did not answer, and may later."""

    def __init__(self, message: str, *, passing: bool = False) -> None:
        super().__init__(message)
        self.passing = passing


class Screen(Protocol):
    """What can be done on a screen. All of it raises `ScreenStopped`."""

    def open(self, path: str) -> None:
        """Open a page, after the address of the program."""
        ...

    def sign_in(self, said: SignIn) -> bool:
        """Sign in where a form for that shows; whether one did."""
        ...

    def signed_out(self, said: SignIn) -> bool:
        """Whether the form for signing in shows."""
        ...

    def fill(self, place: Place, text: str) -> None:
        """Type a text into a field, in the place of what stands there."""
        ...

    def choose(self, place: Place, option: str, otherwise: str) -> str:
        """Choose an option of a list, or the other where it has none like that; which was chosen."""
        ...

    def press(self, place: Place) -> None:
        """Press a button or a link, and wait until the screen has come to rest."""
        ...

    def attach(self, place: Place, name: str, data: bytes) -> None:
        """Give a file to a field for files."""
        ...

    def shows(self, text: str, seconds: float) -> bool:
        """Whether a text comes to stand on the screen."""
        ...

    def holds(self, text: str) -> bool:
        """Whether a text stands as the whole of a cell, a line of a list, or a field that may not be changed."""
        ...

    def read(self, place: Place) -> str:
        """What the screen shows in a field, or beside a label."""
        ...

    def messages(self, places: Sequence[str]) -> list[str]:
        """What the program says at these places (CSS)."""
        ...

    def picture(self) -> bytes:
        """The screen as PNG."""
        ...
