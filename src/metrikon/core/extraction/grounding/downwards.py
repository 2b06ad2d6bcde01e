"""Texts that go on below: wrapped within a cell or a box beside which other print stands, also with a word parted at the end of a line."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from metrikon.core.documents.model import Page, Segment
from metrikon.core.extraction.indexing.index import Index, Squeezed, squeezed
from metrikon.core.extraction.indexing.placed import evidence_at
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.types import Field

SURE = 0.8
SHORTEST = 6  # letters of a text that is looked for downwards
BELOW = 2  # lines on which a piece of print may go on
MOST_LINES = 400  # of a page that is looked at


def down_a_column(field: Field, value: Any, index: Index) -> Evidence | None:
    """A text that stands in pieces of print one under the other."""
    wanted = squeezed(value) if isinstance(value, str) else ""
    if len(wanted) < SHORTEST:
        return None
    found = (place for run in index.once("print by columns", _columns) if wanted in run.text for place in run.find(wanted) if place.exact)
    place = next(found, None)
    return evidence_at(index, place, SURE) if place is not None else None


def _columns(index: Index) -> list[Squeezed]:
    """The words of each column of print, from the first piece of it down."""
    return [run for page in index.document.pages for run in _of_page(page)]


def _of_page(page: Page) -> Iterator[Squeezed]:
    below = _below(page)
    begun = set(below) - set(below.values())
    for first in sorted(begun, key=lambda each: each.first):
        words: list[int] = []
        at: Segment | None = first
        while at is not None:
            words += range(at.first, at.last)
            at = below.get(at)
        yield Squeezed(page.number, words, [page.words[number].text for number in words])


def _below(page: Page) -> dict[Segment, Segment]:
    """For each piece of print the one that begins under it, on one of the next lines."""
    found: dict[Segment, Segment] = {}
    taken: set[Segment] = set()
    lines = page.lines[:MOST_LINES]
    for number, line in enumerate(lines):
        for one in line.segments:
            near = (two for other in lines[number + 1 : number + 1 + BELOW] for two in other.segments if two not in taken and _under(page, one, two))
            two = next(near, None)
            if two is not None:
                found[one] = two
                taken.add(two)
    return found


def _under(page: Page, one: Segment, two: Segment) -> bool:
    """Whether one piece of print begins where the other does, about."""
    height = max(1.0, one.y1 - one.y0)
    return abs(one.x0 - two.x0) < height and -height < two.y0 - one.y1 < 2 * height
