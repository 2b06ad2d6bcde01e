"""The name that somebody may have meant."""

from __future__ import annotations

from collections.abc import Iterable
from difflib import get_close_matches

LEAST = 0.6  # how alike, by the measure of difflib


def nearest(name: str, known: Iterable[str]) -> str:
    """ "; is X meant?" with the known name that comes nearest, or nothing."""
    found = get_close_matches(name[:100], [each for each in known if each != name][:2000], 1, LEAST)
    return f"; is {found[0]!r} meant?" if found else ""
