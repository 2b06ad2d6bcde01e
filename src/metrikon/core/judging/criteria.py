"""Criteria, what earns which mark, and documents that were judged by them earlier: plain data."""

from __future__ import annotations

import msgspec


class Marked(msgspec.Struct, frozen=True):
    """The mark of one criterion, with the words that it rests on and why it was given; both may be empty."""

    name: str
    mark: int
    words: str = ""
    reason: str = ""


class Anchor(msgspec.Struct, frozen=True, omit_defaults=True):
    """An earlier judged document. `item`: what came in with it, which is not shown its own marks; `corrected`: a person set the marks right."""

    id: str
    item: str
    marks: tuple[Marked, ...]
    total: int
    corrected: bool = False


class Mark(msgspec.Struct, frozen=True):
    """A mark of a scale, and what earns it."""

    mark: int
    earns: str


class Criterion(msgspec.Struct, frozen=True, omit_defaults=True):
    """What is judged: its scale from the lowest mark to the highest, how much it weighs, whether it must be met.

    `sees`: what of a person it needs (`blind.KINDS`), which is then shown.
    """

    name: str
    about: str
    scale: tuple[Mark, ...]
    weight: int = 1
    must: bool = False
    sees: tuple[str, ...] = ()


class Threshold(msgspec.Struct, frozen=True):
    """A label, and the total from which it holds, in per cent."""

    label: str
    least: int


class Judge(msgspec.Struct, frozen=True, omit_defaults=True, tag="judge", tag_field="task"):
    """A document against criteria. `labels` from the lowest to the highest; `hide`: names that are not to be seen; `least`: how sure every mark must be.

    `anchors`: earlier judged documents that the level is kept by.
    """

    criteria: tuple[Criterion, ...]
    labels: tuple[Threshold, ...]
    hide: tuple[str, ...] = ()
    blind: bool = True
    least: float = 0.6
    anchors: tuple[Anchor, ...] = ()

    @property
    def seen(self) -> tuple[str, ...]:
        """What of a person the criteria need."""
        return tuple(dict.fromkeys(kind for each in self.criteria for kind in each.sees))
