"""The name that somebody may have meant."""

from __future__ import annotations

from collections.abc import Iterable
from difflib import get_close_matches

LEAST = 0.6  # how alike, by the measure of difflib
MOST = 2000  # names that are compared
MOST_KNOWN = 20  # names that are told


def closest(name: str, known: Iterable[str], least: float = LEAST) -> str | None:
    """The known name that comes nearest to one that is not known, at least so alike; None when none does."""
    found = get_close_matches(name[:100], [each for each in known if each != name][:MOST], 1, least)
    return found[0] if found else None


def unknown(what: str, name: str, known: Iterable[str]) -> str:
    """What is told of a name that nobody knows: the nearest, and those that are known."""
    names = sorted(known)
    told = ", ".join(names[:MOST_KNOWN]) + (", …" if len(names) > MOST_KNOWN else "")
    return f"There is no {what} {name!r}{meant(name, names)} Known: {told or 'none yet'}."


def meant(name: str, known: Iterable[str]) -> str:
    """The end of a sentence about a name that is not known: a full stop, and the question whether the nearest known one is meant."""
    found = closest(name, known)
    return f". Is {found!r} meant?" if found else "."
