"""How far the sheets of a workbook reach, told before they are opened: two cells in far corners make a library lay out all between them."""

from __future__ import annotations

import re
import zipfile
from collections.abc import Collection
from typing import IO

from lxml import etree

MOST_CELLS = 4_000_000  # of a sheet that is read as a document, those that are empty between others counted
MOST_OF_ROWS = (
    20_000_000  # of one that rows are taken from or written to: 32 bytes each in the library that lays them out, far below what its process may take
)
_CHUNK = 1_000_000  # bytes
_LONGEST = 2000  # bytes of the tag of a cell
_PLACE = re.compile(rb"\br\s*=\s*[\"']([A-Za-z]{1,4})(\d{1,9})[\"']")  # of any cell
_CELL = re.compile(rb"<(?:\w+:)?c\b[^>]*?\br\s*=\s*[\"']([A-Za-z]{1,4})(\d{1,9})[\"'][^>]*(?<!/)>(?!</)")  # one that is not empty
_ROW = re.compile(
    rb"<(?:\w+:)?row\b[^>]*?\br\s*=\s*[\"'](\d{1,9})[\"'][^>]*(?<!/)>\s*<(?:\w+:)?c(?![^>]*\br\s*=)"
)  # its cells do not say where they stand
_OFFICE = "{urn:oasis:names:tc:opendocument:xmlns:office:1.0}"
_TABLE = "{urn:oasis:names:tc:opendocument:xmlns:table:1.0}"


class TooFar(ValueError):
    """A sheet that reaches over more cells than are laid out; the message says how far."""


def check_extents(book: IO[bytes], most: int = MOST_CELLS) -> None:
    """Raises `TooFar` for a workbook (XLSX or ODS) with a sheet of more than `most` cells."""
    with zipfile.ZipFile(book) as packed:
        for name in packed.namelist():
            if name.lower() == "content.xml":
                with packed.open(name) as part:
                    _check_ods(part, most)
            elif name.lower().startswith("xl/") and name.lower().endswith(".xml") and "sharedstrings" not in name.lower():
                with packed.open(name) as part:
                    _check_xlsx(part, most)


class _Reach:
    """The rectangle around all places (row, column) so far."""

    def __init__(self, most: int) -> None:
        self.most = most
        self.rows: tuple[int, int] = (0, 0)
        self.columns: tuple[int, int] = (0, 0)

    def add(self, rows: Collection[int], columns: Collection[int]) -> None:
        """Raises `TooFar` when it holds too many cells."""
        if not rows:
            return
        self.rows = (min(self.rows[0] or min(rows), *rows), max(self.rows[1], *rows))
        self.columns = (min(self.columns[0] or min(columns), *columns), max(self.columns[1], *columns))
        high, wide = self.rows[1] - self.rows[0] + 1, self.columns[1] - self.columns[0] + 1
        if high * wide > self.most:
            raise TooFar(
                f"A sheet reaches over {high:,} rows and {wide:,} columns; at most {self.most:,} cells are read. Take out what stands far from the rest."
            )


def _check_xlsx(part: IO[bytes], most: int) -> None:
    """Where its cells say that they stand: first of all of them, and where that is too far, of those that hold something."""
    try:
        _check_places(part, _PLACE, most)
    except TooFar:
        part.seek(0)
        _check_places(part, _CELL, most)


def _check_places(part: IO[bytes], cell: re.Pattern[bytes], most: int) -> None:
    reach, left = _Reach(most), b""
    while chunk := part.read(_CHUNK):
        text = left + chunk
        found = cell.findall(text)
        reach.add({int(row) for _, row in found}, {_column(letters) for letters in {letters for letters, _ in found}})
        reach.add({int(row) for row in _ROW.findall(text)}, (1,))
        left = text[-_LONGEST:]


def _column(letters: bytes) -> int:
    number = 0
    for each in letters.upper():
        number = number * 26 + each - 64
    return number


def _check_ods(part: IO[bytes], most: int) -> None:
    """Rows and cells that are repeated are counted as often as they are, up to the last that holds something."""
    reach, rows, across, width, filled = _Reach(most), 0, 0, 0, False
    for _, element in etree.iterparse(part, events=("end",), resolve_entities=False, huge_tree=False, no_network=True, load_dtd=False):
        tag = element.tag
        if tag in (f"{_TABLE}table-cell", f"{_TABLE}covered-table-cell"):
            across += _times(element, "number-columns-repeated")
            if len(element) or element.get(f"{_OFFICE}value-type"):
                width, filled = max(width, across), True
        elif tag == f"{_TABLE}table-row":
            rows += _times(element, "number-rows-repeated")
            if filled:
                reach.add((1, rows), (1, width))
            across, filled = 0, False
            element.clear()
        elif tag == f"{_TABLE}table":
            reach, rows, across, width = _Reach(most), 0, 0, 0


def _times(element: etree._Element, name: str) -> int:
    given = str(element.get(f"{_TABLE}{name}") or "1")
    return int(given) if given.isdecimal() and len(given) < 10 else 10**9 if given.isdecimal() else 1
