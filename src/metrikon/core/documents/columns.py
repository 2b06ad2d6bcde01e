"""Columns of a table: from the header's words and the body's cells to one place for each."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

from metrikon.core.documents.model import Line, Page, Segment, Word

_DASHES = {"-", "–", "—"}
_AMOUNT_FIRST = re.compile(r"^[-+(]?\S{0,3} ?\d[\d.,']*(?![\d.,' ]*%)\s+[^\W\d]")


@dataclass(frozen=True)
class Columns:
    """Column places from left to right: the reach of each, and whether it holds figures."""

    places: tuple[tuple[float, float], ...]
    figures: tuple[bool, ...]

    def of(self, x0: float, x1: float) -> int:
        """The column in which something from x0 to x1 stands: most overlap, else the nearest."""
        best, score = 0, float("-inf")
        for number, (left, right) in enumerate(self.places):
            overlap = (right if right < x1 else x1) - (left if left > x0 else x0)
            if overlap > score:
                best, score = number, overlap
        return best

    def strays(self, x0: float, x1: float) -> bool:
        """Whether something from x0 to x1 reaches over three columns or more."""
        return sum(1 for left, right in self.places if min(right, x1) - max(left, x0) > 1) >= 3


@lru_cache(maxsize=4096)
def has_figure(text: str) -> bool:
    """Whether a text is mostly figures: an amount, a quantity, a date, a code."""
    digits = sum(c.isdigit() for c in text)
    return digits > 0 and digits * 2 >= sum(c.isalnum() for c in text)


@lru_cache(maxsize=4096)
def figure_cell(text: str) -> bool:
    """Whether a cell can stand in a column of figures: figures, "12 pcs", "€ 4.50", or a dash."""
    return has_figure(text) or text in _DASHES or bool(_AMOUNT_FIRST.match(text))


def find_columns(page: Page, header: Sequence[Line], body: Sequence[Line]) -> Columns:
    """Columns from one or two header lines and the rows seen below them."""
    heads = _merged([segment for line in header for segment in line.segments])
    usual = _usual_rows(body)
    shape = [(s[0], s[1]) for s in heads]
    if usual and len(usual[0].segments) > len(shape):
        shape = _from_rows(usual)
    elif usual and len(usual[0].segments) == len(shape):
        shape = [(min(a, c), max(b, d)) for (a, b), (c, d) in zip(shape, _from_rows(usual), strict=True)]
        shape = _apart(shape, [(s[0], s[1]) for s in heads])
    columns = Columns(tuple(shape), tuple(False for _ in shape))
    return Columns(columns.places, _figure_columns(columns, usual or body))


def _merged(segments: list[Segment]) -> list[tuple[float, float]]:
    """Header segments of several lines that stand over each other become one."""
    found: list[tuple[float, float]] = []
    for segment in sorted(segments, key=lambda s: s.x0):
        if found and segment.x0 < found[-1][1]:
            found[-1] = (found[-1][0], max(found[-1][1], segment.x1))
        else:
            found.append((segment.x0, segment.x1))
    return found


def _usual_rows(body: Sequence[Line]) -> list[Line]:
    """The rows with the number of segments that most rows have (of those with three or more)."""
    counts = Counter(len(line.segments) for line in body if sum(has_figure(s.text) for s in line.segments) >= 2)
    if not counts:
        return []
    most = max(counts, key=lambda n: (counts[n], n))
    return [line for line in body if len(line.segments) == most]


def _from_rows(rows: Sequence[Line]) -> list[tuple[float, float]]:
    count = len(rows[0].segments)
    spans = [(min(r.segments[n].x0 for r in rows), max(r.segments[n].x1 for r in rows)) for n in range(count)]
    return _apart(spans, [(r.x0, r.x1) for r in rows[0].segments])


def _apart(spans: list[tuple[float, float]], cores: list[tuple[float, float]]) -> list[tuple[float, float]]:
    """Spans that run into their neighbour are cut in the middle between the cores."""
    found = [list(span) for span in spans]
    for left, right, core, after in zip(found, found[1:], cores, cores[1:], strict=False):
        if left[1] > right[0]:
            middle = (core[1] + after[0]) / 2
            left[1], right[0] = min(left[1], middle), max(right[0], middle)
    return [(span[0], span[1]) for span in found]


def _figure_columns(columns: Columns, body: Sequence[Line]) -> tuple[bool, ...]:
    seen: list[list[bool]] = [[] for _ in columns.places]
    for line in body:
        if len(line.segments) >= 2:
            for segment in line.segments:
                seen[columns.of(segment.x0, segment.x1)].append(figure_cell(segment.text))
    return tuple(bool(marks) and sum(marks) * 2 > len(marks) for marks in seen)


def split_by_columns(words: Sequence[Word], first: int, columns: Columns) -> list[list[int]]:
    """Word numbers a column, for words that start at number `first`."""
    cells: list[list[int]] = [[] for _ in columns.places]
    for offset, word in enumerate(words):
        cells[columns.of(word.x0, word.x1)].append(first + offset)
    return cells
