"""Setting: what has no pages of its own is set on pages, so that every word has a place that can be shown.

Text is set in characters of one width: column c of line l stands at (LEFT + c × WIDE, TOP + l × PITCH).
A table makes its page wider rather than its cells unreadable. The picture of such a page is drawn
from the same places (`drawing`), so evidence marks are exact.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from metrikon.core.documents.model import Cell, Line, Page, Segment, Sentence, Start, Table, Word
from metrikon.core.values.text import clean

LEFT, TOP, WIDE, HIGH, PITCH = 48.0, 48.0, 6.0, 11.0, 15.0  # points
COLUMNS, LINES = 83, 50  # characters a line, lines a page
WIDEST_CELL, WIDEST = 48, 600  # characters of a cell before it wraps; of a page
BETWEEN = 3  # characters between columns
MOST_KEPT = 4  # words with figures that are kept on a line with the next


@dataclass(frozen=True)
class Piece:
    """Some text of a paragraph; `struck` when it is crossed out."""

    text: str
    struck: bool = False


@dataclass(frozen=True)
class Paragraph:
    """Running text. `space`: lines left free before it. `said` makes it a sentence that was said; `alike`: with it a part begins that is
    one of several alike, which of how many.
    """

    pieces: tuple[Piece, ...]
    space: int = 0
    said: Sentence | None = None
    alike: tuple[int, int] | None = None


@dataclass(frozen=True)
class Grid:
    """A table: its header row (may be empty) and its rows, all of one length. A cell may hold several lines."""

    header: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]


@dataclass(frozen=True)
class Laid:
    """One line whose parts stand at their columns, as in a text that is laid out by spaces."""

    parts: tuple[tuple[int, str], ...]
    space: int = 0


Block = Paragraph | Grid | Laid


def block_texts(block: Block) -> list[str]:
    """The texts of a block: pieces, parts or cells."""
    if isinstance(block, Paragraph):
        return [piece.text for piece in block.pieces]
    return [text for _, text in block.parts] if isinstance(block, Laid) else [cell for row in (block.header, *block.rows) for cell in row]


def paragraph(text: str, space: int = 0) -> Paragraph:
    """A paragraph of plain text."""
    return Paragraph((Piece(text),), space)


@dataclass(frozen=True)
class Set:
    """What setting made: pages, tables, and sentences with their places."""

    pages: tuple[Page, ...]
    tables: tuple[Table, ...]
    sentences: tuple[Sentence, ...]
    alike: tuple[Start, ...] = ()


@dataclass
class _Sheet:
    """A page while it is being set."""

    number: int
    words: list[Word] = field(default_factory=list)
    lines: list[Line] = field(default_factory=list)
    at: int = 0  # the next free line
    widest: int = COLUMNS

    def page(self) -> Page:
        width, height = 2 * LEFT + self.widest * WIDE, 2 * TOP + max(self.at, LINES) * PITCH
        return Page(self.number, width, height, "set", tuple(self.words), tuple(self.lines))


class Setter:
    """Sets blocks on pages, one after the other. `most`: pages at most; `full` is true when more would be needed."""

    def __init__(self, most: int) -> None:
        self.most = most
        self.full = False
        self._sheets = [_Sheet(1)]
        self._tables: list[Table] = []
        self._said: list[Sentence] = []
        self._alike: list[Start] = []

    def add(self, block: Block) -> None:
        """Set a block after those before it."""
        if self.full:
            return
        if isinstance(block, Grid):
            self._grid(block)
        elif isinstance(block, Laid):
            self._sheets[-1].at += block.space if self._sheets[-1].at else 0
            sheet = self._room(1)
            if not self.full:
                self._line(sheet, [(column, [Piece(word) for word in clean(text).split(" ")]) for column, text in block.parts])
        else:
            self._paragraph(block)

    def done(self) -> Set:
        """The pages as they are; a page without words is kept only when it is the only one."""
        pages = [sheet.page() for sheet in self._sheets if sheet.words or sheet.number == 1]
        return Set(tuple(pages), tuple(self._tables), tuple(self._said), tuple(self._alike))

    def _room(self, lines: int) -> _Sheet:
        sheet = self._sheets[-1]
        if sheet.at + lines > LINES and sheet.at:
            self._next()
        return self._sheets[-1]

    def _next(self) -> None:
        if len(self._sheets) >= self.most:
            self.full = True
            return
        self._sheets.append(_Sheet(len(self._sheets) + 1))

    def _paragraph(self, block: Paragraph) -> None:
        sheet = self._sheets[-1]
        sheet.at += block.space if sheet.at else 0
        numbers: list[int] = []
        first_page = 0
        for line in _broken(block.pieces, COLUMNS):
            sheet = self._room(1)
            if self.full:
                return
            first = len(sheet.words)
            if block.alike is not None and not numbers and line:
                self._alike.append(Start(sheet.number, len(sheet.lines), *block.alike))
            self._line(sheet, [(0, line)])
            if not first_page or first_page == sheet.number:
                first_page = sheet.number
                numbers += range(first, len(sheet.words))
        if block.said is not None and numbers:
            said = block.said
            self._said.append(Sentence(said.text, said.speaker, said.start, said.end, first_page, tuple(numbers)))

    def _line(self, sheet: _Sheet, parts: Sequence[tuple[int, list[Piece]]]) -> list[tuple[int, int]]:
        """Set pieces at columns on the next line; the reach of words of each part."""
        top = TOP + sheet.at * PITCH
        segments, reaches = [], []
        for column, pieces in parts:
            first = len(sheet.words)
            at = column
            for piece in pieces:
                x0 = LEFT + at * WIDE
                sheet.words.append(Word(piece.text, x0, top, x0 + len(piece.text) * WIDE, top + HIGH, 1.0, piece.struck))
                at += len(piece.text) + 1
            reaches.append((first, len(sheet.words)))
            if pieces:
                sheet.widest = max(sheet.widest, at - 1)
                text = " ".join(piece.text for piece in pieces)
                segments.append(Segment(first, len(sheet.words), text, LEFT + column * WIDE, top, LEFT + (at - 1) * WIDE, top + HIGH))
        if segments:
            sheet.lines.append(Line(tuple(segments)))
        sheet.at += 1
        return reaches

    def _grid(self, grid: Grid) -> None:
        columns = max((len(row) for row in (grid.header, *grid.rows)), default=0)
        if not columns:
            return
        widths = _widths(grid, columns)
        starts = [sum(widths[:n]) + BETWEEN * n for n in range(columns)]
        if self._sheets[-1].at:
            self._sheets[-1].at += 1
        pages: list[int] = []
        header = self._row(grid.header, widths, starts, pages) if any(grid.header) else ()
        rows: list[tuple[Cell, ...]] = []
        apart = not any(grid.header) and any("\n" in cell for row in grid.rows for cell in row)  # it lays text out, in parts
        for row in grid.rows:
            if self.full:
                break
            self._sheets[-1].at += apart and bool(self._sheets[-1].at) and bool(rows)
            rows.append(self._row(row, widths, starts, pages))
        if header or rows:
            self._tables.append(Table(header or tuple(Cell() for _ in range(columns)), tuple(rows), tuple(dict.fromkeys(pages))))

    def _row(self, row: Sequence[str], widths: Sequence[int], starts: Sequence[int], pages: list[int]) -> tuple[Cell, ...]:
        parted = [_cell_lines(text) for text in row] + [[]] * (len(widths) - len(row))
        texts = [" ".join(lines) for lines in parted]
        wrapped = [[each for line in lines for each in _broken((Piece(line),), width)] for lines, width in zip(parted, widths, strict=True)]
        tall = max((len(lines) for lines in wrapped), default=0) or 1
        sheet = self._room(min(tall, LINES))
        if self.full:
            return tuple(Cell(text) for text in texts)
        own: list[list[int]] = [[] for _ in texts]
        for number in range(tall):  # a cell taller than a page makes its page taller: nothing is left out
            parts = [(start, lines[number] if number < len(lines) else []) for start, lines in zip(starts, wrapped, strict=True)]
            for cell, (first, last) in zip(own, self._line(sheet, parts), strict=True):
                cell.extend(range(first, last))
        pages.append(sheet.number)
        return tuple(Cell(text, sheet.number if words else 0, tuple(words)) for text, words in zip(texts, own, strict=True))


def set_blocks(blocks: Iterable[Block], most: int = 300) -> tuple[Set, bool]:
    """Blocks set on at most so many pages, and whether that was enough."""
    setter = Setter(most)
    for block in blocks:
        setter.add(block)
        if setter.full:
            break
    return setter.done(), not setter.full


def _widths(grid: Grid, columns: int) -> list[int]:
    widths = [1] * columns
    for row in (grid.header, *grid.rows):
        for number, text in enumerate(row):
            widths[number] = max(widths[number], min(max(map(len, _cell_lines(text)), default=0), WIDEST_CELL))
    while sum(widths) + BETWEEN * columns > WIDEST and max(widths) > 8:
        widths = [max(min(width, 8), width * 3 // 4) for width in widths]
    return widths


def _cell_lines(text: str) -> list[str]:
    """The lines of a cell that stand under each other in its file."""
    return [line for line in map(clean, text.split("\n")) if line]


def _broken(pieces: Iterable[Piece], width: int) -> list[list[Piece]]:
    """Words of the pieces in lines of at most so many characters; longer words stand alone, cut in parts.

    What holds figures stays on one line with the word after it: a date, a telephone number, an amount with its unit.
    """
    lines: list[list[Piece]] = [[]]
    used = 0
    for piece in pieces:
        for word in clean(piece.text).split(" "):
            while word:
                part, word = word[: max(width, 12)], word[max(width, 12) :]
                if lines[-1] and used + 1 + len(part) > width:
                    lines.append(_kept_with_next(lines[-1], width - len(part) - 1))
                    used = sum(len(each.text) + 1 for each in lines[-1]) - bool(lines[-1])
                used += len(part) + (1 if lines[-1] else 0)
                lines[-1].append(Piece(part, piece.struck))
    return lines if lines[0] else []


def _kept_with_next(line: list[Piece], room: int) -> list[Piece]:
    """Take the last words that hold figures off a line, a few of them, if they fit before the word that comes next."""
    taken = 0
    while taken < min(MOST_KEPT, len(line) - 1) and any(c.isdecimal() for c in line[-1 - taken].text):
        taken += 1
    kept = line[len(line) - taken :]
    if not kept or sum(len(each.text) + 1 for each in kept) > room:
        return []
    del line[len(line) - taken :]
    return kept
