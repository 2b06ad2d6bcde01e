"""Reading order: a page of two columns is read down the left one, then down the right one.

Lines run across the whole page at first. Where many lines in a row are parted at the same place,
hold prose on both sides and are no table, that stretch is two columns.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from metrikon.core.documents.columns import has_figure
from metrikon.core.documents.model import Line, Page, Segment, Word

LEAST_LINES = 6  # a stretch of columns has at least so many lines that hold text on both sides
FAR = 40.0  # points of empty height that end a stretch
LEAST_WIDE = 8.0  # points of empty space between columns


def in_order(page: Page) -> Page:
    """The page with its words and lines in reading order."""
    stretch = _stretch(page)
    if stretch is None:
        return page
    first, last, gutter = stretch
    lines: list[list[Segment]] = [list(line.segments) for line in page.lines[:first]]
    inside = page.lines[first:last]
    lines += [[s for s in line.segments if s.x0 < gutter] for line in inside]
    lines += [[s for s in line.segments if s.x0 >= gutter] for line in inside]
    lines += [list(line.segments) for line in page.lines[last:]]
    return _renumbered(page, [line for line in lines if line])


def _renumbered(page: Page, lines: Sequence[Sequence[Segment]]) -> Page:
    words: list[Word] = []
    made = []
    for line in lines:
        segments = []
        for each in line:
            start = len(words)
            words.extend(page.words[each.first : each.last])
            segments.append(Segment(start, len(words), each.text, each.x0, each.y0, each.x1, each.y1))
        made.append(Line(tuple(segments)))
    return msgspec.structs.replace(page, words=tuple(words), lines=tuple(made))


def _stretch(page: Page) -> tuple[int, int, float] | None:
    """(first line, end, x of the gutter) of the longest stretch of two columns, or None."""
    best: tuple[int, int, float] | None = None
    score = 0
    gutters = _gutters(page)
    reaches = [(min([s.y0 for s in line.segments]), max([s.y1 for s in line.segments])) for line in page.lines] if gutters else []
    figured = [sum([has_figure(s.text) for s in line.segments]) >= 2 or len(line.segments) > 3 for line in page.lines] if gutters else []
    for gutter in gutters:
        first, both, start, figures = None, 0, 0, 0
        for number in range(len(page.lines) + 1):
            line = page.lines[number] if number < len(page.lines) else None
            far = line is not None and number > 0 and reaches[number][0] - reaches[number - 1][1] > FAR
            clear = line is not None and _clear(line, gutter)
            if line is not None and clear and not (far and first is not None):
                if first is None:
                    first, both, start, figures = number, 0, number, 0
                both += _on_both_sides(line, gutter)
                figures += figured[number]
                continue
            if (
                first is not None
                and both >= LEAST_LINES
                and both > score
                and figures * 4 <= number - first
                and _prose(page.lines[start:number], gutter)
            ):
                best, score = (start, number, gutter), both
            first = None
            if line is not None and far and clear:
                first, both, start, figures = number, int(_on_both_sides(line, gutter)), number, 0
    return best


def _clear(line: Line, gutter: float) -> bool:
    """Whether nothing on a line stands across a gutter."""
    for s in line.segments:  # noqa: SIM110
        if s.x0 < gutter - 1 < s.x1 - 1:
            return False
    return True


def _on_both_sides(line: Line, gutter: float) -> bool:
    """Whether something on a line stands left and right of a gutter; segments come from left to right, but for those that share a place."""
    left = right = False
    for s in line.segments:
        left, right = left or s.x0 < gutter, right or s.x0 >= gutter
    return left and right


def _gutters(page: Page) -> list[float]:
    """Places where the right-hand column may begin: where many segments that are not first on their line start."""
    counts: dict[int, int] = {}
    for line in page.lines:
        for before, segment in zip(line.segments, line.segments[1:], strict=False):
            if segment.x0 - before.x1 >= LEAST_WIDE:
                counts[round(segment.x0 / 3)] = counts.get(round(segment.x0 / 3), 0) + 1
    most = sorted((place for place, count in counts.items() if count >= LEAST_LINES - 2), key=lambda place: -counts[place])
    return [place * 3 - 2.0 for place in most[:6]]


def _prose(lines: Sequence[Line], gutter: float) -> bool:
    """Whether both sides read as text: several words a line, and the same left edge again and again."""
    for side in (True, False):
        segments = [s for line in lines for s in line.segments if (s.x0 < gutter) == side]
        if not segments:
            return False
        words = sum(s.last - s.first for s in segments) / len(segments)
        if words < 2.2 or (not side and _aligned(segments) < 0.5):
            return False
    left = [s for line in lines for s in line.segments if s.x0 < gutter]
    return _aligned(left) >= 0.4 and sum(s.text.rstrip().endswith(":") for s in left) * 3 < len(left)


def _aligned(segments: Sequence[Segment]) -> float:
    """The share of segments that start at the most usual place."""
    counts: dict[int, int] = {}
    for each in segments:
        counts[round(each.x0 / 4)] = counts.get(round(each.x0 / 4), 0) + 1
    return max(counts.values()) / len(segments)
