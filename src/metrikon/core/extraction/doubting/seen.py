"""The values of rows with the lines on which they may stand."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from metrikon.core.extraction.grounding.ground import places
from metrikon.core.extraction.grounding.hours import hours_at
from metrikon.core.extraction.grounding.nothing import noughts
from metrikon.core.extraction.indexing.index import Index, Place
from metrikon.core.extraction.indexing.placed import said_of
from metrikon.core.records.manner import DECIDED
from metrikon.core.records.pointers import leaves, shape
from metrikon.core.records.types import Field, RecordType

MOST_PLACES = 60  # of one value that are looked at


@dataclass
class Seen:
    """One value of a row with the places where it may stand, as (line, place) over the whole document."""

    pointer: str
    field: Field
    value: Any
    at: list[tuple[int, Place]]

    def within(self, low: int, high: int) -> Seen:
        """The same with the places on some lines alone."""
        return Seen(self.pointer, self.field, self.value, [(line, place) for line, place in self.at if low <= line <= high])


def line_numbers(index: Index) -> dict[tuple[int, int], int]:
    """A number for each line of the document, by page and line."""
    every = ((page.number, line) for page in index.document.pages for line in range(len(page.lines)))
    return {at: number for number, at in enumerate(every)}


def seen_of(kind: RecordType, pointer: str, number: int, row: Any, index: Index, lines: Mapping[tuple[int, int], int]) -> list[Seen]:
    """The values of one row, each with the places where it may stand. `lines`: a number for each line, by page and line."""
    found = []
    for inner, value in leaves(row) if isinstance(row, dict) else ():
        field = kind.by_shape.get(f"{pointer}/*{shape(inner)}")
        if field is None or value is None or isinstance(value, bool) or field.manner == DECIDED:
            continue
        spots = places(field, value, index)
        spots = [*spots, *_in_words(field, value, index, bool(spots))]
        at = [(lines[(place.page, index.pages[place.page].line_of[place.words[0]])], place) for place in spots[:MOST_PLACES]]
        found.append(Seen(f"{pointer}/{number}{inner}", field, value, sorted(at, key=lambda each: each[0])))
    return found


def _in_words(field: Field, value: Any, index: Index, printed: bool) -> list[Place]:
    """Where a number is said in words, a nought by a word such as "free", a time as a bare hour; nothing of talks, which have no rows."""
    if index.document.sentences:
        return []
    if isinstance(value, Decimal | int):
        said = [heard.place for heard in said_of(index).numbers.get(abs(Decimal(value)), ())] if printed else []
        return [*said, *(noughts(index) if value == 0 else ())]
    return hours_at(value, index) if field.kind == "time" and isinstance(value, str) and _CLOCK.fullmatch(value) else []


_CLOCK = re.compile(r"\d\d:\d\d(?::\d\d)?")
