"""Evidence at a place, and of what is heard."""

from __future__ import annotations

from collections.abc import Sequence

from metrikon.core.documents.model import words_box
from metrikon.core.extraction.indexing.index import Index, Place
from metrikon.core.extraction.indexing.said import Heard, Said
from metrikon.core.records.evidence import Evidence


def evidence_at(index: Index, place: Place, sure: float, how: str = "printed") -> Evidence:
    """Evidence at a place; it is no surer than the words were read."""
    page = index.pages[place.page]
    least = min(page.words[n].sure for n in place.words)
    return Evidence(how, place.page, words_box(page, place.words), index.quote(place)[:300], round(least * sure, 3))


def is_share(place: Place, index: Index) -> bool:
    """Whether a number is so many per cent, which is no sum of money."""
    words = index.pages[place.page].words
    last = place.words[-1]
    return words[last].text.rstrip(".,;:)").endswith("%") or (last + 1 < len(words) and words[last + 1].text.startswith("%"))


def best_heard(index: Index, heard: Sequence[Heard], how: str = "said") -> Evidence | None:
    """Evidence at the surest of the places where something is heard; None without any."""
    best = max(heard, key=lambda each: each.sure, default=None)
    return evidence_at(index, best.place, best.sure, how) if best is not None else None


def said_of(index: Index) -> Said:
    """What a document says, worked out once."""
    return index.once("said", Said)
