"""Intake: where items come from. What is sent to the service says how it is taken in; what must be looked at again and again says what is there."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal, Protocol

from metrikon.core.flows.coming import Repeats
from metrikon.core.flows.failing import Failure
from metrikon.core.flows.form import Form
from metrikon.ports.apart import HERE, Apart
from metrikon.ports.touching import Touched


class IntakeFailed(Exception):
    """An intake cannot be looked at, or one thing of it cannot be had; the message says why and what to do.

    `wait`: seconds that its server asks to wait. `gone`: it is only this thing that is not there any more.
    """

    def __init__(self, message: str, *, wait: float | None = None, gone: bool = False) -> None:
        super().__init__(message)
        self.wait = wait
        self.gone = gone


DEPTH_HEADER = "Metrikon-Depth"  # of what flows send: by how many flows it went, one after the other


@dataclass(frozen=True)
class Thing:
    """Something that an intake holds.

    `identity` tells it from all others of its intake (empty when that is only known once it is had). `at`: when it came or changed, milliseconds since
    1970. `size`: bytes, 0 when not known. `data`: what is known of it, as JSON: conditions and steps see it as `item.data`. `key`: by what its intake finds
    it. `cursor`: where the intake stands once it is taken, as JSON; None where identities say all. `taken`: whether it was taken, where the intake knows.
    `depth`: how deep it is, where a flow has sent it (`DEPTH_HEADER`).
    """

    identity: str
    name: str
    at: int
    size: int = 0
    data: Any = None
    key: Any = None
    cursor: Any = None
    taken: bool | None = None
    depth: int = 0


def depth_told(told: str) -> int:
    """The depth that a header tells; 0 for none, or one that makes no sense."""
    return min(int(told), 10_000) if told.isascii() and told.isdecimal() and len(told) < 6 else 0


@dataclass(frozen=True)
class Piece:
    """A part of a thing that becomes an item: its name and bytes. `place` tells it from other parts; empty for a thing that is one item.

    `within`: what becomes of the files within an archive or a mail: nothing, "each" an item of its own, or read "together" with it as one. `only`: patterns
    of the names of those that are wanted, all without one.
    """

    name: str
    data: bytes
    place: str = ""
    within: Literal["", "each", "together"] = ""
    only: tuple[str, ...] = ()


class Source(Protocol):
    """An intake that is looked at again and again. All of it may raise `IntakeFailed`."""

    every: float  # seconds between looks
    waits: bool  # whether `wait` is told by its server when something comes

    def test(self) -> str:
        """Make a real look that changes nothing; what it found, as whom."""
        ...

    def there(self) -> Iterator[Thing]:
        """All that is there now, newest first, without what it holds."""
        ...

    def new(self, cursor: Any, moment: int) -> Iterator[Thing]:
        """What has come since a cursor (None: everything), in the order in which it is taken, at a moment (milliseconds since 1970)."""
        ...

    def get(self, thing: Thing) -> Sequence[Piece]:
        """What a thing holds."""
        ...

    def makes(self, thing: Thing) -> int:
        """How many items a thing makes, as far as that can be told without having it."""
        ...

    def one(self, thing: Thing) -> Thing:
        """One of those that are there, as it can be taken: with its identity."""
        ...

    def settle(self, thing: Thing, *, taken: bool) -> None:
        """A thing is kept now, or was let go: mark it or move it, as the flow says. May be called again for the same."""
        ...

    def wait(self, seconds: float) -> bool:
        """Wait until something may have come, at most so long; whether it may."""
        ...

    def close(self) -> None:
        """Let go of connections."""
        ...


class Quiet:
    """What most intakes do not do."""

    every = 60.0
    waits = False

    def makes(self, thing: Thing) -> int:
        """One item."""
        return 1

    def one(self, thing: Thing) -> Thing:
        """It can be taken as it is."""
        return thing

    def settle(self, thing: Thing, *, taken: bool) -> None:
        """Nothing is to be done."""

    def wait(self, seconds: float) -> bool:
        """Nobody tells when something comes."""
        return False

    def close(self) -> None:
        """Nothing is held open."""


class Failures(Protocol):
    """Failures for good of all flows, each cause once while it lasts."""

    def last(self) -> int:
        """The number of the last one; 0 where there is none."""
        ...

    def after(self, number: int, most: int) -> Sequence[Failure]:
        """Those behind a number, in their order."""
        ...

    def latest(self, most: int) -> Sequence[Failure]:
        """The last ones, newest first."""
        ...


@dataclass(frozen=True)
class Here:
    """What a source is built with: the folder of the service, the most bytes that are taken, how outside services are called, the zone of its flow, and the
    columns that the flow itself sets in the place that is looked at: that they change makes nothing new; what has failed, and the address of an item for people."""

    home: Path
    largest: int
    calling: Any = None  # engine.outside.Outside
    zone: Any = None  # zoneinfo.ZoneInfo
    own: frozenset[str] = frozenset()
    failures: Failures | None = None
    link: Callable[[str], str] = lambda item_id: f"/arrivals/{item_id}"
    apart: Apart = HERE  # where files of strangers are opened


def repeats_of(said: Any, data: Any) -> Repeats:
    """What becomes of equal content, where the flow does not say."""
    return getattr(said, "repeats", None) or "hold"


@dataclass(frozen=True)
class IntakeKind:
    """A kind of intake, declared beside its adapter.

    `parameters`: the form of what a flow says of it. `place`: what is looked at, named for people. `build`: what looks at it; None for a kind that is sent
    to the service. `tell`: what comes in, in a few words. `touches`: the folder or server that it uses. `sent`: where things are sent to it, before its own address; `proved`: whether who
    sends proves it by a secret.
    `repeats`: what becomes of a thing that holds what an earlier one held, by what is known of it.
    `reaches`: whether it is looked at outside the house, so that a new one waits until somebody has seen what it would take.
    `gives`: what `item.data` holds: of each entry what it is, or a sentence where that depends on what comes.
    `quick`: whether a look costs next to nothing, so that it is looked at all the time.
    """

    name: str
    parameters: type[Form]
    tell: Callable[[Any], str]
    place: Callable[[Any, Path], str] = lambda said, home: ""
    build: Callable[[Any, Here], Source] | None = None
    touches: Callable[[Any, Path], Touched | None] = lambda said, home: None
    sent: str = ""
    proved: bool = False
    repeats: Callable[[Any, Any], Repeats] = repeats_of
    reaches: bool = False
    quick: bool = False
    gives: Mapping[str, str] | str = ""


def opened(said: Any) -> bool:
    """Whether the files within an archive or a mail become items of their own."""
    return bool(getattr(said, "opened", False))
