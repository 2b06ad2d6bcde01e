"""A plan of a way in carried out on a screen: looked up first, done step by step with a picture before and after each press, stopped at the first thing that is not as it was to be."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Literal

from metrikon.core.entering.plan import Action, Plan
from metrikon.core.entering.way import SignIn, WayIn
from metrikon.core.values.numbers import parse_number
from metrikon.ports.screen import Screen, ScreenStopped

GLANCE = 1.0  # seconds for which something is waited for that need not come


@dataclass(frozen=True)
class Seen:
    """A picture of the screen: when it was taken, in words, and its bytes."""

    told: str
    data: bytes


@dataclass
class Entered:
    """What came of it. `chosen`: options that were taken instead of those that were wanted; `read`: what the screen showed."""

    result: Literal["entered", "there already", "tried"]
    pictures: list[Seen] = field(default_factory=list)
    read: dict[str, str] = field(default_factory=dict)
    chosen: list[str] = field(default_factory=list)


class Stopped(Exception):
    """It came to no end. `sure`: nothing was entered; else it may have been. `passing`: trying later may help."""

    def __init__(self, message: str, pictures: Sequence[Seen], *, sure: bool, passing: bool) -> None:
        super().__init__(message)
        self.pictures, self.sure, self.passing = list(pictures), sure, passing


Telling = Callable[[int, int, str], None]  # how much was done, of how much, and what is done now in a few words


def _nobody(done: int, in_all: int, told: str) -> None:
    """Nobody is told how far it is."""


def enter(screen: Screen, way: WayIn, plan: Plan, file: Callable[[str], bytes], *, dry: bool = False, tell: Telling = _nobody) -> Entered:
    """Carry out a plan. `dry`: up to the last press, which is not done. `tell`: is told before each thing how far it is. Raises `Stopped`."""
    walk = _Walk(screen, way, file, tell, len(plan.look) + len(plan.enter))
    try:
        if walk.found(plan):
            return Entered("there already", walk.pictures)
        for action, following in zip(plan.enter, [*plan.enter[1:], None], strict=True):
            if action.last and dry:
                walk.see(f"before the last press, {action.told}, which was not done")
                return Entered("tried", walk.pictures, walk.read, walk.chosen)
            walk.do(action, following)
    except ScreenStopped as error:
        with contextlib.suppress(ScreenStopped):
            walk.see("when it stopped")
        raise Stopped(f"{walk.at}: {error}", walk.pictures, sure=not walk.pressed, passing=error.passing) from error
    return Entered("entered", walk.pictures, walk.read, walk.chosen)


class _Walk:
    def __init__(self, screen: Screen, way: WayIn, file: Callable[[str], bytes], tell: Telling, in_all: int) -> None:
        self._screen, self._way, self._file = screen, way, file
        self._tell, self._done, self._in_all = tell, 0, in_all
        self.pictures: list[Seen] = []
        self.read: dict[str, str] = {}
        self.chosen: list[str] = []
        self.at = "Begin"
        self.pressed = False  # the last press, by which it is entered
        self._signed: SignIn | None = None
        self._said: list[str] = []  # messages that stood there before

    def see(self, told: str) -> None:
        """Keep a picture."""
        self.pictures.append(Seen(told, self._screen.picture()))

    def found(self, plan: Plan) -> bool:
        """Whether it is there already, as far as the way in can look."""
        if not plan.look:
            return False
        for action, following in zip(plan.look, [*plan.look[1:], None], strict=True):
            self.do(action, following, pictures=False)
        self.at = "Look whether it is there already"
        until = self._way.patience if plan.none else GLANCE
        if plan.none and not self._screen.holds(plan.there) and self._screen.shows(plan.none, 0):
            return False
        if self._screen.holds(plan.there) or (self._screen.shows(plan.there, until) and self._screen.holds(plan.there)):
            self.see("it is there already")
            return True
        if plan.none and not self._screen.shows(plan.none, 0):
            raise ScreenStopped(f"The screen shows neither “{plan.there}” nor “{plan.none}”, so that nobody can tell whether it is there.")
        return False

    def do(self, action: Action, following: Action | None, *, pictures: bool = True) -> None:
        """Do one thing, and look whether the screen is as it was to be."""
        screen, self.at = self._screen, action.told
        self._tell(self._done, self._in_all, action.told)
        self._done += 1
        if action.verb == "expect":
            self._still_in()
        if action.verb == "open":
            screen.open(action.text)
        elif action.verb == "sign_in" and action.sign_in is not None:
            screen.sign_in(action.sign_in)
            self._signed = action.sign_in
        elif action.verb == "expect":
            self._expect(action)
        elif action.verb == "press" and action.place is not None:
            if pictures:
                self.see(f"before {action.told}")
            self.pressed = self.pressed or action.last
            try:
                screen.press(action.place)
            except ScreenStopped:
                self._still_in()
                raise
            if pictures:
                self.see(f"after {action.told}")
        elif action.place is not None:
            try:
                self._put(action)
            except ScreenStopped:
                self._still_in()
                raise
        if action.verb in ("press", "open", "attach", "sign_in"):
            self._listen(following)

    def _still_in(self) -> None:
        """Raises `ScreenStopped` where the program asks to sign in again."""
        if self._signed is not None and self._screen.signed_out(self._signed):
            raise ScreenStopped("The program's session ran out: it asks to sign in again.")

    def _put(self, action: Action) -> None:
        place, screen = action.place, self._screen
        assert place is not None
        if action.verb == "fill":
            screen.fill(place, action.text)
        elif action.verb == "choose":
            chosen = screen.choose(place, action.text, action.otherwise)
            if action.otherwise and chosen and _squeezed(action.otherwise) in _squeezed(chosen) and _squeezed(action.text) not in _squeezed(chosen):
                self.chosen.append(f"{place.told}: {chosen} instead of {action.text}")
        elif action.verb == "attach":
            screen.attach(place, action.text, self._file(action.file))
        elif action.verb == "read_back":
            shown = screen.read(place)
            self.read[place.label] = shown
            if not alike(shown, action.text):
                raise ScreenStopped(f"“{place.label}” shows {shown[:80]!r}, and {action.text[:80]!r} was to be entered.")

    def _expect(self, action: Action) -> None:
        if not self._screen.shows(action.text, self._way.patience):
            told = [each for each in self._screen.messages(self._way.messages) if each not in self._said]
            raise ScreenStopped(f"It did not come within {self._way.patience:g} seconds.{f' The program says: {told[0][:300]}' if told else ''}")

    def _listen(self, following: Action | None) -> None:
        """A message that nothing expects stops the work."""
        awaited = _squeezed(following.text) if following is not None and following.verb == "expect" else ""
        told = self._screen.messages(self._way.messages)
        fresh = [each for each in told if each not in self._said and not (awaited and awaited in _squeezed(each))]
        self._said = told
        if fresh:
            raise ScreenStopped(f"The program says: {fresh[0][:300]}")


def alike(shown: str, wanted: str) -> bool:
    """Whether what a screen shows is what was entered: numbers by their size, other texts but for blanks and capitals."""
    one, other = parse_number(shown), parse_number(wanted)
    if one is not None and other is not None:
        return one == other
    return _squeezed(shown) == _squeezed(wanted)


def _squeezed(text: str) -> str:
    return " ".join(text.split()).casefold()
