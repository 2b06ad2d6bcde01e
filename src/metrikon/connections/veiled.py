"""A screen that tells no secret: what was typed from one is never read, pointed at or pictured, neither by the field that holds it nor by its letters."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any, TypeVar

from metrikon.connections.screen import BrowserScreen
from metrikon.core.entering.way import Place, SignIn
from metrikon.core.values.masking import Mask
from metrikon.ports.screen import ScreenStopped

T = TypeVar("T")


@dataclass
class Veil:
    """The secret of a screen, once it is known. `keep_in`: is told that it is, and by what it is masked."""

    keep_in: Callable[[Mask], None] = lambda mask: None
    secret: str = ""
    mask: Mask = field(default_factory=lambda: Mask(()))

    def over(self, secret: str) -> None:
        """From now on it is masked."""
        if secret != self.secret:
            self.secret, self.mask = secret, Mask([secret])
            self.keep_in(self.mask)


class VeiledScreen:
    """A screen behind a veil (`ports.screen.Screen`)."""

    def __init__(self, screen: BrowserScreen, veil: Veil) -> None:
        self._screen, self._veil = screen, veil

    def open(self, path: str) -> None:
        self._told(lambda: self._screen.open(path))

    def sign_in(self, said: SignIn) -> bool:
        return self._told(lambda: self._screen.sign_in(said))

    def signed_out(self, said: SignIn) -> bool:
        return self._told(lambda: self._screen.signed_out(said))

    def fill(self, place: Place, text: str) -> None:
        self._told(lambda: self._screen.fill(place, text))

    def choose(self, place: Place, option: str, otherwise: str) -> str:
        return self._veil.mask.text(self._told(lambda: self._screen.choose(place, option, otherwise)))

    def press(self, place: Place) -> None:
        self._told(lambda: self._screen.press(place))

    def attach(self, place: Place, name: str, data: bytes) -> None:
        self._told(lambda: self._screen.attach(place, name, data))

    def shows(self, text: str, seconds: float) -> bool:
        return self._told(lambda: self._screen.shows(text, seconds))

    def holds(self, text: str) -> bool:
        return self._told(lambda: self._screen.holds(text))

    def read(self, place: Place) -> str:
        shown = self._told(lambda: self._screen.read(place))
        if self._veil.mask.holds(shown):
            raise ScreenStopped(f"What stands {place.told} is the secret of the connection, which is not read.")
        return shown

    def messages(self, places: Sequence[str]) -> list[str]:
        return [self._veil.mask.text(each) for each in self._told(lambda: self._screen.messages(places))]

    def picture(self) -> bytes:
        return self._told(lambda: self._screen.picture(self._veil.secret))

    def at(self, x: float, y: float) -> dict[str, Any] | None:
        """What stands at a point; of what holds the secret no more than that it does."""
        found = self._told(lambda: self._screen.at(x, y))
        return found if found is None else {name: self._masked(value) for name, value in found.items()}

    def signing(self) -> dict[str, str] | None:
        """The labels of the form for signing in that shows."""
        return self._told(self._screen.signing)

    def address(self) -> str:
        """Where it is now."""
        return self._veil.mask.text(self._told(self._screen.address))

    def _masked(self, value: Any) -> Any:
        if isinstance(value, str):
            return self._veil.mask.text(value)
        if isinstance(value, list):
            return [self._masked(each) for each in value]
        if isinstance(value, dict):
            return {name: self._masked(each) for name, each in value.items()}
        return value

    def _told(self, act: Callable[[], T]) -> T:
        try:
            return act()
        except ScreenStopped as error:
            if self._veil.mask.holds(str(error)):
                raise ScreenStopped(self._veil.mask.text(str(error)), passing=error.passing) from None
            raise
