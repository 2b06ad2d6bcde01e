"""Values that were to be written beside those that are there, in words."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

MOST_TOLD, LONGEST = 4, 60  # columns, and characters of a value, in a sentence


@dataclass(frozen=True)
class Differs:
    """One column: what is there, and what was to be."""

    column: str
    there: Any
    wanted: Any

    def __str__(self) -> str:
        return f"{self.column} is {_shown(self.there)}, the paper says {_shown(self.wanted)}"


def same_values(wanted: Mapping[str, Any], known: Mapping[str, Any]) -> bool:
    """Whether columns hold what is wanted: numbers whatever their zeros, an empty text as nothing."""
    return all(_same(value, known.get(name)) for name, value in wanted.items())


def changed(wanted: Mapping[str, Any], known: Mapping[str, Any]) -> dict[str, Any]:
    """The columns that are wanted otherwise than they are known to be."""
    return {name: value for name, value in wanted.items() if not _same(value, known.get(name))}


def told(found: Iterable[Differs]) -> str:
    """What differs, in a sentence; nothing for nothing."""
    every = list(found)
    more = f"; and {len(every) - MOST_TOLD} more" if len(every) > MOST_TOLD else ""
    return f"{'; '.join(map(str, every[:MOST_TOLD]))}{more}." if every else ""


def _same(one: Any, other: Any) -> bool:
    if isinstance(one, bool) or isinstance(other, bool):
        return one is other
    if isinstance(one, Decimal | int) and isinstance(other, Decimal | int):
        return one == other
    return (one if one != "" else None) == (other if other != "" else None)


def _shown(value: Any) -> str:
    if value is None or value == "":
        return "empty"
    text = f"{value:f}" if isinstance(value, Decimal) else str(value)
    return text if len(text) <= LONGEST else f"{text[:LONGEST]}…"
