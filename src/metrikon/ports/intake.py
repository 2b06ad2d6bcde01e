"""Intake: where items come from. What is sent to the service needs nothing more; what must be looked at again and again says how."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

from metrikon.core.flows.form import Form
from metrikon.ports.touching import Touched

Take = Callable[[str, str, bytes], Callable[[], object]]  # identity, name, bytes; what it gives waits until they are kept


@dataclass(frozen=True)
class There:
    """Something that an intake would take: its name, size in bytes, when it changed (milliseconds since 1970), and whether it was taken already."""

    name: str
    size: int
    changed_at: int
    taken: bool


class Looked(Protocol):
    """An intake that is looked at again and again. It remembers what it has seen."""

    @property
    def problems(self) -> Mapping[str, str]:
        """What could not be taken, by name, and why."""
        ...

    def look(self, now: float, take: Take) -> int:
        """Take in what is there at a moment (seconds); how many items were taken."""
        ...

    def there(self) -> Sequence[There]:
        """What is there now, newest first."""
        ...

    def one(self, name: str, take: Take) -> bool:
        """Take in one thing that is there, whether it has settled or not; whether it was."""
        ...


@dataclass(frozen=True)
class IntakeKind:
    """A kind of intake, declared beside its adapter.

    `parameters`: the form of what a flow says of it. `place`: what is looked at, named for people. `build`: what looks at it, given the form, the
    folder of the service and the most bytes that are taken; None for a kind that is sent to the service. `tell`: what comes in, in a few words. `touches`: the folder or server
    that it uses.
    """

    name: str
    parameters: type[Form]
    tell: Callable[[Any], str]
    place: Callable[[Any, Path], str] = lambda said, home: ""
    build: Callable[[Any, Path, int], Looked] | None = None
    touches: Callable[[Any, Path], Touched | None] = lambda said, home: None


def opened(said: Any) -> bool:
    """Whether the files within an archive or a mail become items of their own."""
    return bool(getattr(said, "opened", False))
