"""The rows of a sheet of a workbook put into another order, in its own XML (ECMA-376, SpreadsheetML): each goes with its cells, formulas, links and notes.

The sheet is unpacked to a file beside, and only where its rows begin and end is held in memory.
"""

from __future__ import annotations

import mmap
import re
import shutil
import tempfile
import zipfile
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO
from xml.sax.saxutils import escape, unescape

from metrikon.destinations.ordering import FIRST, Move, copied, moved
from metrikon.destinations.workbook import CHUNK, Book, column_of, joined
from metrikon.destinations.workbook_writing import END, copy_parts, like, without_chain
from metrikon.ports.destination import Unusable

_ROW = re.compile(rb'<(?:\w+:)?row\b(?:[^>]*?\br="(?P<number>\d+)")?(?:[^>]*?/>|[^>]*>.*?</(?:\w+:)?row\s*>)', re.S)
_BEGIN = re.compile(rb"<(?:\w+:)?sheetData\b[^>]*>")
_CELL = re.compile(rb"<(?:\w+:)?c\b(?P<said>[^>]*?)(?:/>|>(?P<inner>.*?)</(?:\w+:)?c\s*>)", re.S)
_FORMULA = re.compile(rb"<(?P<name>(?:\w+:)?f)\b(?P<said>[^>]*?)(?:/>|>(?P<text>[^<]*)</(?:\w+:)?f\s*>)")
_PLACE = re.compile(rb'\br="([A-Z]+)(\d+)"')
_REF = re.compile(rb'(?P<before>(?<=\s)ref=")(?P<left>[A-Z]+)(?P<row>\d+)(?::(?P<left2>[A-Z]+)(?P<row2>\d+))?"')
_QUOTES = {"&quot;": '"', "&apos;": "'"}


@dataclass
class _Sheet:
    """A sheet that is put in order: where each row was and is, and formulas that several cells share, with the place of the first."""

    name: str
    last: int
    now: dict[int, int]
    shared: dict[bytes, tuple[str, int, int]] = field(default_factory=dict)
    formulas: bool = False


def put_in_order(path: Path, out: Path, name: str, order: Sequence[int]) -> None:
    """Write a workbook anew with the rows of a sheet in another order. `order`: the numbers of the rows beneath the heads as they are to follow each other.

    Raises `Unusable` where a formula or a merged cell ties rows to each other, so that they cannot be moved apart.
    """
    sheet = _Sheet(name, FIRST + len(order) - 1, {before: now for now, before in enumerate(order, FIRST)})
    with Book(path) as book, tempfile.TemporaryFile() as aside:
        part = book.sheets[name]
        with book.held.open(part) as source:
            shutil.copyfileobj(source, aside, CHUNK)
        aside.flush()
        with (
            mmap.mmap(aside.fileno(), 0, access=mmap.ACCESS_READ) as data,
            zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as target,
        ):
            begins, rows, ends = _rows(data, book)
            _look(data, rows, sheet)
            with target.open(like(book.held.getinfo(part)), "w") as made:
                _write(data, begins, rows, ends, order, sheet, made)
            changed = {**_beside(book, part, sheet), **(without_chain(book) if sheet.formulas else {})}
            copy_parts(book, target, {**changed, part: None})


def _rows(data: mmap.mmap, book: Book) -> tuple[int, dict[int, tuple[int, int]], int]:
    """Where the rows begin, where each of them is by its number, and where they end."""
    begin = _BEGIN.search(data)
    end = END.search(data, begin.end() if begin is not None else 0)
    if begin is None or end is None:
        raise Unusable(f"The sheet in {book.path.name} has no rows that can be sorted. Repair it, then continue.")
    rows: dict[int, tuple[int, int]] = {}
    number = 0
    for found in _ROW.finditer(data, begin.end(), end.start()):
        number = int(found["number"]) if found["number"] else number + 1
        rows[number] = found.span()
    return begin.end(), rows, end.start()


def _look(data: mmap.mmap, rows: dict[int, tuple[int, int]], sheet: _Sheet) -> None:
    """Formulas that several cells share, and those that cannot be parted."""
    for number, (start, end) in rows.items():
        row = data[start:end]
        if b"shared" not in row and b'"array"' not in row and b'"dataTable"' not in row:
            continue
        for column, formula in _formulas(row):
            kind = re.search(rb'\bt="(\w+)"', formula["said"])
            if kind and kind.group(1) in (b"array", b"dataTable") and number >= FIRST:
                raise Unusable(
                    f"A formula in row {number} fills several cells at once, and its rows cannot be sorted. Put it on another sheet, or take `sorted_by` out of the flow."
                )
            told = re.search(rb'\bsi="(\d+)"', formula["said"])
            if told and formula["text"]:
                sheet.shared[told.group(1)] = (_plain(formula["text"]), number, column)


def _formulas(row: bytes) -> list[tuple[int, re.Match[bytes]]]:
    found, at = [], 0
    for cell in _CELL.finditer(row):
        place = _PLACE.search(cell["said"])
        at = column_of(place.group(1).decode()) if place else at + 1
        formula = _FORMULA.search(cell["inner"] or b"")
        if formula is not None:
            found.append((at, formula))
    return found


def _write(data: mmap.mmap, begins: int, rows: dict[int, tuple[int, int]], ends: int, order: Sequence[int], sheet: _Sheet, out: IO[bytes]) -> None:
    """The sheet with its rows in another order."""
    out.write(data[:begins])
    for number, (start, end) in rows.items():
        if number < FIRST:
            out.write(data[start:end])
    for before in order:
        if before in rows:
            out.write(_row(data[slice(*rows[before])], before, sheet))
    for number, (start, end) in rows.items():
        if number > sheet.last:
            out.write(data[start:end])
    out.write(_tail(data[ends:], sheet))


def _row(row: bytes, before: int, sheet: _Sheet) -> bytes:
    """A row at its new place."""
    now = sheet.now[before]
    if b"<f" in row or b":f" in row:
        row = _CELL.sub(lambda cell: _cell(cell, before, now, sheet), row)
    if now == before:
        return row
    head = row.index(b">") + 1
    told = re.sub(rb'\br="\d+"', b'r="%d"' % now, row[:head], count=1)
    return told + re.sub(rb'(<(?:\w+:)?c\b[^>]*?\br="[A-Z]+)%d"' % before, rb"\g<1>%d" % now + b'"', row[head:])


def _cell(cell: re.Match[bytes], before: int, now: int, sheet: _Sheet) -> bytes:
    """A cell with its formula as it is in another row."""
    formula, place = _FORMULA.search(cell["inner"] or b""), _PLACE.search(cell["said"])
    if formula is None or place is None:
        return cell[0]
    said, text = formula["said"], _plain(formula["text"] or b"")
    told = re.search(rb'\bsi="(\d+)"', said) if b'"shared"' in said else None
    if told is not None and told.group(1) in sheet.shared:
        first, row, column = sheet.shared[told.group(1)]
        text = copied(first, before - row, column_of(place.group(1).decode()) - column)
        said = re.sub(rb'\s(?:t|si|ref)="[^"]*"', b"", said)
    sheet.formulas = sheet.formulas or now != before
    text = moved(text, Move(before, now, sheet.last, sheet.name), f"{place.group(1).decode()}{before}")
    fresh = b"<%s%s>%s</%s>" % (formula["name"], said, escape(text).encode(), formula["name"])
    return cell[0].replace(formula[0], fresh, 1)


def _tail(tail: bytes, sheet: _Sheet) -> bytes:
    """What comes after the rows: links and cells that are merged go with them."""

    def one(found: re.Match[bytes]) -> bytes:
        row, row2 = int(found["row"]), int(found["row2"] or found["row"])
        if row2 < FIRST or row > sheet.last:
            return found[0]
        if row != row2:
            raise Unusable(
                f"The cells {found[0][5:-1].decode()} are merged or linked over several rows, which cannot be sorted. Part them, then continue."
            )
        now = b"%d" % sheet.now[row]
        return found["before"] + found["left"] + now + (b":" + found["left2"] + now if found["left2"] else b"") + b'"'

    return re.sub(rb"<(?:\w+:)?(?:mergeCell|hyperlink)\b[^>]*>", lambda each: _REF.sub(one, each[0]), tail)


def _beside(book: Book, part: str, sheet: _Sheet) -> dict[str, bytes | None]:
    """Notes that stand at cells, in parts of their own, gone with them."""
    changed: dict[str, bytes | None] = {}
    for each in book.relations(part):
        kind, name = str(each.get("Type")).rpartition("/")[2], joined(part, str(each.get("Target")))
        if kind in ("comments", "threadedComment"):
            changed[name] = _REF.sub(lambda found: _noted(found, sheet), book.held.read(name))
        elif kind == "vmlDrawing":
            pattern = rb"(<(?:\w+:)?Row>)(\d+)(</(?:\w+:)?Row>)"  # numbers from 0
            changed[name] = re.sub(
                pattern, lambda found: found[1] + b"%d" % (sheet.now.get(int(found[2]) + 1, int(found[2]) + 1) - 1) + found[3], book.held.read(name)
            )
    return changed


def _noted(found: re.Match[bytes], sheet: _Sheet) -> bytes:
    return found["before"] + found["left"] + b"%d" % sheet.now.get(int(found["row"]), int(found["row"])) + b'"'


def _plain(text: bytes) -> str:
    return unescape(text.decode(), _QUOTES)
