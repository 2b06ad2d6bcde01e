"""Tables without looking at rules: a header line, figures that stand under it, and what belongs to them.

A table starts at a line of at least three heads without figures, over lines that hold figures in
columns. It ends where print no longer fits the columns. Lines of text only, close to a row, are
that row's wrapped text. Lines that hold words in a column of figures (totals, carried forward) are
no rows. A table that goes on over the page, with its header repeated or not, is one table.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from itertools import pairwise

from metrikon.core.documents.columns import Columns, figure_cell, find_columns, has_figure, merged, parted, split_by_columns
from metrikon.core.documents.model import Cell, Line, Page, Segment, Table
from metrikon.core.values.text import fold

LOOK_AHEAD = 12  # lines below a header that are looked at to find its columns
NEXT = 7  # lines below a header among which the first row must be
SHORT_HEAD = 16  # letters of a head that stands on several lines, a line
FAR = 3.2  # times the usual line pitch: a wider gap ends a table


@dataclass
class _Draft:
    """A table under construction: where its columns are, and its rows so far."""

    columns: Columns
    header: tuple[Cell, ...]
    head: tuple[tuple[str, int], ...] = ()  # the words of the header and where they begin
    rows: list[list[list[int]]] = field(default_factory=list)
    pages: list[int] = field(default_factory=list)
    done: list[tuple[Cell, ...]] = field(default_factory=list)

    @property
    def key(self) -> tuple[str, ...]:
        return tuple(fold(cell.text) for cell in self.header)


def find_tables(pages: Sequence[Page]) -> tuple[Table, ...]:
    """All tables of a document, in order, joined over pages."""
    drafts: list[_Draft] = []
    for page in pages:
        at = 0
        goes_on = drafts[-1] if drafts and drafts[-1].pages[-1] == page.number - 1 else None
        found = 0
        while (start := _next_header(page, at)) is not None:
            if goes_on and not found and start[0] > 0:
                _continue_bare(goes_on, page, start[0])
            draft, at = _read_table(page, start, goes_on)
            found += 1
            if not draft.done:
                continue
            if goes_on and _same_table(goes_on, draft):
                goes_on.done.extend(draft.done)
                goes_on.pages.append(page.number)
            else:
                drafts.append(draft)
            goes_on = None
        if goes_on and not found:
            _continue_bare(goes_on, page, len(page.lines))
    return tuple(Table(d.header, tuple(d.done), tuple(dict.fromkeys(d.pages))) for d in drafts)


def _same_table(before: _Draft, after: _Draft) -> bool:
    return before.key == after.key


def _next_header(page: Page, at: int) -> tuple[int, int] | None:
    """(first, end) of the next header's lines at or after line `at`, or None."""
    for number in range(at, len(page.lines) - 1):
        line = page.lines[number]
        heads = line.segments
        if len(heads) < 2 or any(has_figure(s.text) for s in heads) or any(len(s.text) > 40 for s in heads):
            continue
        end = number + 1
        if end < len(page.lines) and _is_second_head(line, page, end):
            end += 1
        first = _with_line_above(page, number, at)
        whole = [segment for each in page.lines[first:end] for segment in each.segments]
        if (len(heads) >= 3 or len(merged(whole)) >= 3) and _figures_below(page, end, whole):
            return first, end
    return None


def _with_line_above(page: Page, number: int, at: int) -> int:
    """A header may start one line higher, where some heads are two lines."""
    if number <= at:
        return number
    above, line = page.lines[number - 1], page.lines[number]
    close = line.box[1] - above.box[3] < 0.6 * (line.box[3] - line.box[1])
    inside = above.box[0] >= line.box[0] - 2 and above.box[2] <= line.box[2] + 2
    over = all(_over_head(s, line) for s in above.segments) or all(_over_head(s, line) or _over_column(s, page, number + 1) for s in above.segments)
    plain = not any(any(c.isdecimal() for c in s.text) or ":" in s.text for s in above.segments)
    return number - 1 if close and inside and over and plain and len(above.segments) <= len(line.segments) else number


def _over_head(segment: Segment, line: Line) -> bool:
    return any(min(segment.x1, h.x1) - max(segment.x0, h.x0) > 0 for h in line.segments)


def _over_column(segment: Segment, page: Page, start: int) -> bool:
    """Whether a short head, such as the first word of one that stands on two lines between the others, has print of rows below it."""
    below = [each for line in page.lines[start : start + LOOK_AHEAD] if sum(has_figure(s.text) for s in line.segments) >= 2 for each in line.segments]
    return len(segment.text) <= SHORT_HEAD and any(min(segment.x1, s.x1) - max(segment.x0, s.x0) > 0 for s in below)


def _is_second_head(line: Line, page: Page, number: int) -> bool:
    below = page.lines[number]
    close = below.box[1] - line.box[3] < 0.6 * (line.box[3] - line.box[1])
    plain = not any(any(c.isdecimal() for c in s.text) for s in below.segments)
    over = all(_over_head(s, line) or _over_column(s, page, number + 1) for s in below.segments)
    short = all(len(s.text) <= SHORT_HEAD for s in below.segments)
    return close and plain and over and short and len(below.segments) <= len(line.segments)


def _figures_below(page: Page, end: int, heads: Sequence[Segment]) -> bool:
    """Whether one of the next lines holds figures in at least two places, one of them under a head."""
    for line in page.lines[end : end + NEXT]:
        figures = [s for s in line.segments if has_figure(s.text)]
        if len(figures) >= 2 and len(line.segments) >= 3:
            under = [s for s in figures if any(min(s.x1, h.x1) - max(s.x0, h.x0) > 0 for h in heads)]
            return len(under) >= 1
    return False


def _read_table(page: Page, header: tuple[int, int], before: _Draft | None = None) -> tuple[_Draft, int]:
    """The table under a header, and the line after its end. Under the header of the table `before`, repeated, its columns hold on."""
    first, end = header
    heads = page.lines[first:end]
    words = page.words[heads[0].first : heads[-1].last]
    head = tuple((fold(word.text), round(word.x0)) for word in words)
    again = before is not None and before.head == head
    following = _next_header(page, end)
    body = page.lines[end : min(end + LOOK_AHEAD, following[0] if following else len(page.lines))]
    columns = before.columns if before and again else find_columns(page, heads, body)
    cells = split_by_columns(words, heads[0].first, columns)
    draft = _Draft(columns, tuple(_cell(page, numbers) for numbers in cells), head, pages=[page.number])
    stop = _read_rows(draft, page, end, following[0] if following else len(page.lines))
    return draft, max(stop, end)


def _continue_bare(draft: _Draft, page: Page, end: int) -> None:
    """Rows at the top of a page whose header is not repeated."""
    start = 0
    while start < end and not _is_row(draft.columns, page.lines[start]):
        start += 1
    if start < end and page.lines[start].box[1] < page.height * 0.4:
        _read_rows(draft, page, start, end)
        draft.pages.append(page.number)


def _read_rows(draft: _Draft, page: Page, start: int, end: int) -> int:
    """Add the rows from line `start` on; the line at which the table ended is returned."""
    marks = [_kind(draft.columns, line) for line in page.lines[start:end]]
    pitch = _pitch(page.lines[start:end], marks)
    rows: list[list[int]] = []  # line numbers of each row
    loose: list[int] = []
    last, stop = start - 1, end
    for number in range(start, end):
        kind = marks[number - start]
        if last >= 0 and page.lines[number].box[1] - page.lines[last].box[3] > FAR * pitch:
            stop = number
            break
        if kind == "row":
            rows.append([number])
        elif kind == "text" and (rows or number == start):
            loose.append(number)
        elif kind == "other" and rows and "row" not in marks[number - start : number - start + 3]:
            stop = number
            break
        last = number
    _take_in(page, rows, loose, pitch)
    for lines in rows:
        draft.done.append(_row(draft.columns, page, sorted(lines)))
    return stop


def _kind(columns: Columns, line: Line) -> str:
    """What a line is to the table: a "row", wrapped "text" of one, or something "other"."""
    if _is_row(columns, line):
        return "row"
    if len(line.segments) > 2 or line.text.rstrip().endswith(":"):
        return "other"
    homes = [columns.of(s.x0, s.x1) for s in line.segments]
    if not any(columns.figures[home] for home in homes):
        return "text"
    # the rest of a wrapped text with the rest of a wrapped code beside it, at the left edge of its column
    last = len(columns.places) - 1
    wrapped = last not in homes and sum(columns.figures[home] for home in homes) == 1
    edges = all(abs(s.x0 - columns.places[home][0]) < 4 for s, home in zip(line.segments, homes, strict=True))
    return "text" if wrapped and edges else "other"


def _is_row(columns: Columns, line: Line) -> bool:
    """Whether a line fills enough columns with what they hold, and ends in a column of figures."""
    cells = _in_columns(columns, line)
    if any(columns.strays(s.x0, s.x1) and not figure_cell(s.text) for s in line.segments):
        return False
    figures = [n for n, segments in cells.items() if columns.figures[n] and any(figure_cell(s.text) for s in segments)]
    foreign = [n for n, segments in cells.items() if columns.figures[n] and not any(figure_cell(s.text) for s in segments)]
    wanted = sum(columns.figures)
    if len(foreign) == 1 and foreign[0] != len(columns.places) - 1 and len(figures) >= max(3, wanted - 2):
        return True  # a code that was wrapped: only its first piece stands on this line
    return len(figures) >= max(2, (wanted + 1) // 2) and not foreign


def _in_columns(columns: Columns, line: Line) -> dict[int, list[Segment]]:
    cells: dict[int, list[Segment]] = {}
    for segment in line.segments:
        cells.setdefault(columns.of(segment.x0, segment.x1), []).append(segment)
    return cells


def _pitch(lines: Sequence[Line], marks: Sequence[str]) -> float:
    """The usual height of a line of the table."""
    heights = sorted(line.box[3] - line.box[1] for line, mark in zip(lines, marks, strict=True) if mark == "row")
    return heights[len(heights) // 2] if heights else 10.0


def _take_in(page: Page, rows: list[list[int]], loose: list[int], pitch: float) -> None:
    """Give each line of wrapped text to the row it stands closest to, if it stands close."""
    for number in loose:
        box = page.lines[number].box
        best, near = None, 1.1 * pitch
        for row in rows:
            edge = [page.lines[n].box for n in row]
            gap = min(max(box[1] - b[3], b[1] - box[3]) for b in edge)
            if gap < near - 0.5:
                best, near = row, gap
        if best is not None:
            best.append(number)


def _row(columns: Columns, page: Page, lines: list[int]) -> tuple[Cell, ...]:
    cells: list[list[int]] = [[] for _ in columns.places]
    for number in lines:
        for segment in page.lines[number].segments:
            for column, words in parted(columns, page, segment).items():
                cells[column].extend(words)
    return tuple(_cell(page, numbers) for numbers in cells)


def _cell(page: Page, numbers: list[int]) -> Cell:
    if not numbers:
        return Cell(page=page.number)
    return Cell(_joined(page, numbers), page.number, tuple(numbers))


def _joined(page: Page, numbers: list[int]) -> str:
    """The words of a cell; one that ends in a hyphen at the end of its line runs on."""
    text = page.words[numbers[0]].text
    for before, number in pairwise(numbers):
        word = page.words[number]
        wraps = text.endswith("-") and len(text) > 1 and text[-2].isalpha() and word.y0 > page.words[before].y0 + 2
        text += word.text if wraps else f" {word.text}"
    return text
