"""Columns of a table: from the header's words and the body's cells to one place for each."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from statistics import median

from metrikon.core.documents.model import Line, Page, Segment, Word

WIDER = 1.7  # times the usual space between words: what parts two columns
_DASHES = {"-", "–", "—"}
_AMOUNT_FIRST = re.compile(r"^[-+(]?\S{0,3} ?\d[\d.,']*(?![\d.,' ]*%)\s+[^\W\d]")


@dataclass(frozen=True)
class Columns:
    """Column places from left to right: the reach of each, and whether it holds figures."""

    places: tuple[tuple[float, float], ...]
    figures: tuple[bool, ...]
    space: float = 3.0  # between two words, usually

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
    digits = sum(c.isdecimal() for c in text)
    return digits > 0 and digits * 2 >= sum(c.isalnum() for c in text)


@lru_cache(maxsize=4096)
def figure_cell(text: str) -> bool:
    """Whether a cell can stand in a column of figures: figures, "12 pcs", "€ 4.50", or a dash."""
    return has_figure(text) or text in _DASHES or bool(_AMOUNT_FIRST.match(text))


def find_columns(page: Page, header: Sequence[Line], body: Sequence[Line]) -> Columns:
    """Columns from one or two header lines and the rows seen below them."""
    heads = merged([segment for line in header for segment in line.segments])
    usual = _usual_rows(body)
    shape = [(s[0], s[1]) for s in heads]
    if usual and len(usual[0].segments) > len(shape):
        shape = _from_rows(usual)
    elif usual and len(usual[0].segments) == len(shape):
        shape = [(min(a, c), max(b, d)) for (a, b), (c, d) in zip(shape, _from_rows(usual), strict=True)]
        shape = _apart(shape, [(s[0], s[1]) for s in heads])
    filled = [line for line in body if sum(has_figure(s.text) for s in line.segments) >= 2]
    shape = _narrow_parted(page, header, usual or body, shape, filled)
    columns = Columns(tuple(shape), tuple(False for _ in shape), _usual_space(page))
    return Columns(columns.places, _figure_columns(columns, page, usual or body), columns.space)


def _narrow_parted(
    page: Page, header: Sequence[Line], body: Sequence[Line], shape: list[tuple[float, float]], filled: Sequence[Line]
) -> list[tuple[float, float]]:
    """Columns that stand so close that their words ran together, such as "12 | pcs", parted where no line has ink.

    The empty strip must be clearly wider than the spaces between words on this page, or have print
    that ends exactly at its left edge and begins exactly at its right edge on every line.
    """
    lines = [*header, *body]
    if page.source != "text" or len(lines) < 2:
        return shape
    space = _usual_space(page)
    words = [word for line in lines for word in page.words[line.first : line.last]]
    found: list[tuple[float, float]] = []
    for left, right in shape:
        inside = sorted((w.x0, w.x1) for w in words if w.x0 >= left - 1 and w.x1 <= right + 1)
        start, reach = left, inside[0][1] if inside else right
        for x0, x1 in inside:
            gap = x0 - reach
            wide = gap >= 0.8 * space and (gap >= WIDER * space or _sharp(page, [*header, *filled], (left, right), reach, x0))
            if wide and _on_both_sides(page, body, (left, right), reach, x0):
                found.append((start, reach))
                start = x0
            reach = max(reach, x1)
        found.append((start, right))
    return found


def _on_both_sides(page: Page, body: Sequence[Line], column: tuple[float, float], end: float, begin: float) -> bool:
    """Whether most rows that have print in a column have some on either side of a strip."""
    filled = both = 0
    for line in body:
        inside = [w for w in page.words[line.first : line.last] if w.x0 >= column[0] - 1 and w.x1 <= column[1] + 1]
        filled += bool(inside)
        both += any(w.x1 <= end + 1 for w in inside) and any(w.x0 >= begin - 1 for w in inside)
    return both > 0 and both >= 0.7 * filled


def _sharp(page: Page, lines: Sequence[Line], column: tuple[float, float], end: float, begin: float) -> bool:
    """Whether a strip from `end` to `begin` has print at its right edge on every line, of different lengths on the left.

    Print that also ends at the left edge on every line (figures) tells it sooner than print that does not (codes). The same words again tell nothing more.
    """
    wide: set[int] = set()
    told: set[tuple[str, str]] = set()
    ragged = False
    for line in lines:
        inside = [w for w in page.words[line.first : line.last] if w.x0 >= column[0] - 1 and w.x1 <= column[1] + 1]
        before, after = [w for w in inside if w.x1 <= end + 1], [w for w in inside if w.x0 >= begin - 1]
        if not before or not after:
            continue
        if abs(after[0].x0 - begin) > 1:
            return False
        ragged = ragged or abs(before[-1].x1 - end) > 1
        wide.add(round(before[-1].x1 - before[-1].x0))
        told.add((before[-1].text, after[0].text))
    return len(told) >= (6 if ragged else 3) and len(wide) >= 2


def _usual_space(page: Page) -> float:
    """The usual space between two words of one segment."""
    gaps = [page.words[n + 1].x0 - page.words[n].x1 for line in page.lines for s in line.segments for n in range(s.first, s.last - 1)]
    return max(1.5, median(gaps)) if gaps else 3.0


def merged(segments: list[Segment]) -> list[tuple[float, float]]:
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


def parted(columns: Columns, page: Page, segment: Segment) -> dict[int, list[int]]:
    """The words of a segment by column: all in one, but for words that stand in another, clearly apart from the rest."""
    home = columns.of(segment.x0, segment.x1)
    found: dict[int, list[int]] = {}
    wide = 0.8 * WIDER * columns.space
    for number in range(segment.first, segment.last):
        word = page.words[number]
        column = columns.of(word.x0, word.x1)
        left, right = columns.places[column]
        most = (left - 2, right + 2)
        if column < home:  # it may be longer than those that were seen
            before = columns.places[column - 1][1] + columns.space if column > 0 else most[0]
            most = (min(most[0], before), max(most[1], columns.places[column + 1][0]) if has_figure(word.text) else most[1])
        if column != home and word.x0 >= most[0] and word.x1 <= most[1]:
            before = word.x0 - page.words[number - 1].x1 if number > segment.first else 0.0
            after = page.words[number + 1].x0 - word.x1 if number + 1 < segment.last else 0.0
            figure = columns.figures[column] and figure_cell(word.text)
            strip = left - columns.places[home][1] if column > home else columns.places[home][0] - right
            if figure or max(before, after) >= (min(wide, strip - 0.5) if strip >= 0.8 * columns.space else wide):
                found.setdefault(column, []).append(number)
                continue
        found.setdefault(home, []).append(number)
    return found


def _figure_columns(columns: Columns, page: Page, body: Sequence[Line]) -> tuple[bool, ...]:
    seen: list[list[bool]] = [[] for _ in columns.places]
    for line in body:
        if len(line.segments) >= 2:
            for segment in line.segments:
                for column, numbers in parted(columns, page, segment).items():
                    seen[column].append(figure_cell(" ".join(page.words[n].text for n in numbers)))
    return tuple(bool(marks) and sum(marks) * 2 > len(marks) for marks in seen)


def split_by_columns(words: Sequence[Word], first: int, columns: Columns) -> list[list[int]]:
    """Word numbers a column, for words that start at number `first`."""
    cells: list[list[int]] = [[] for _ in columns.places]
    for offset, word in enumerate(words):
        cells[columns.of(word.x0, word.x1)].append(first + offset)
    return cells
