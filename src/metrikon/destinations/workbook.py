"""Workbooks (ECMA-376, SpreadsheetML): their parts, and what is seen of a sheet before rows are added to it."""

from __future__ import annotations

import re
import zipfile
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path, PurePosixPath
from typing import Any
from xml.sax.saxutils import unescape

from lxml import etree

from metrikon.ports.destination import KEY_COLUMN, Unusable

MAIN = "{http://schemas.openxmlformats.org/spreadsheetml/2006/main}"
STRICT = "{http://purl.oclc.org/ooxml/spreadsheetml/main}"
RELATED = "{http://schemas.openxmlformats.org/officeDocument/2006/relationships}id"
LARGEST, CHUNK = 1_000_000_000, 1 << 20  # bytes that a workbook may unpack to, and that are handled at once
_REF = re.compile(r"([A-Z]{1,3})(\d+)")
_PLAIN_ROW = re.compile(rb'<row r="(\d+)"[^>]*?(?:/>|>.*?</row>)', re.S)
_Cell = tuple[int, str, str, int]  # number of the column, type, text, style
_Found = tuple[list[_Cell], int, list[tuple[int, str, str]], list[_Cell]]
PARSER = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False, remove_blank_text=False)


@dataclass(frozen=True)
class Seen:
    """What was seen of a sheet: its part, heads by the number of their column, the last row, the keys, and the styles of the cells of the last row."""

    part: str
    heads: Mapping[int, str] = field(default_factory=dict)
    last: int = 0
    keys: Mapping[str, int] = field(default_factory=dict)
    styles: Mapping[int, int] = field(default_factory=dict)
    head_styles: Mapping[int, int] = field(default_factory=dict)


class Book:
    """A workbook that is there. Raises `Unusable` for what is none."""

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            self.held = zipfile.ZipFile(path)
            if sum(each.file_size for each in self.held.infolist()) > LARGEST:
                raise Unusable(f"{path.name} unpacks to more than {LARGEST / 1e6:.0f} MB, which is not handled.")
            self.main = self.target("", "officeDocument") or "xl/workbook.xml"
            book = self._xml(self.main)
        except (zipfile.BadZipFile, KeyError, etree.XMLSyntaxError, ValueError, NotImplementedError) as error:
            raise Unusable(f"{path.name} is no workbook that can be read ({error}). Move it away or repair it, then continue.") from error
        self._strict = book.tag.startswith(STRICT)
        self.since_1904 = any(each.get("date1904") in ("1", "true") for each in book.iter(f"{self.space}workbookPr"))
        targets = self._related(self.main)
        self.sheets = {str(each.get("name")): targets.get(str(each.get(RELATED)), "") for each in book.iter(f"{self.space}sheet")}
        if not self.sheets or not all(self.sheets.values()):
            self.sheets = {name: part for name, part in self.sheets.items() if part}

    def __enter__(self) -> Book:
        return self

    def __exit__(self, *_: object) -> None:
        self.held.close()

    @property
    def space(self) -> str:
        """The namespace of its elements."""
        return STRICT if self._strict else MAIN

    def seen(self, sheet: str) -> Seen | None:
        """What is in a sheet; None where there is no such sheet."""
        part = self.sheets.get(sheet)
        if part is None:
            return None
        plain = self._plainly(part)
        if plain is None:
            plain = self._slowly(part)
        heads, last, cells, final = plain
        shared = self._shared(
            {int(text) for _, kind, text, _ in heads if kind == "s" and text} | {int(text) for _, kind, text in cells if kind == "s" and text}
        )
        keys: dict[str, int] = {}
        for number, kind, text in cells:
            if told := _text(kind, text, shared):
                keys.setdefault(told, number)
        named = {at: _text(kind, text, shared).strip() for at, kind, text, _ in heads if text}
        styles = {at: style for at, _, _, style in final} if last > 1 else {}
        return Seen(part, named, last, keys, styles, {at: style for at, _, _, style in heads})

    def _slowly(self, part: str) -> _Found:
        """The cells of the heads, the last row with something in it, the cells of our column, and those of the last row."""
        heads: list[_Cell] = []
        keys: list[tuple[int, str, str]] = []
        final: list[_Cell] = []
        last, column = 0, 0
        for number, cells in self._rows(part):
            if any(text for _, _, text, _ in cells):
                last, final = number, cells
            if number == 1:
                heads, column = cells, self._own_column(cells)
                continue
            keys += [(number, kind, text) for at, kind, text, _ in cells if at == column]
        return heads, last, keys, final

    def _own_column(self, heads: list[_Cell]) -> int:
        shared = self._shared({int(text) for _, kind, text, _ in heads if kind == "s" and text})
        return next((at for at, kind, text, _ in heads if _text(kind, text, shared).strip() == KEY_COLUMN), 0)

    def _plainly(self, part: str) -> _Found | None:
        """The same many times faster, for a sheet that is written as nearly all programs do: every cell begins with its place. None for another one."""
        heads: list[_Cell] = []
        keys: list[tuple[int, str, str]] = []
        last, final, column, cell = 0, b"", 0, None
        with self.held.open(part) as source:
            data = source.read(CHUNK)
            begin = re.search(rb"<sheetData>", data)
            if begin is None:
                return None
            data = data[begin.end() :]
            while True:
                more = source.read(CHUNK)
                end = data.rfind(b"</row>") + 6 if more else len(data)
                if end < 6:
                    data += more
                    continue
                rows, data = data[:end], data[end:] + more
                if rows.count(b"<c ") != rows.count(b'<c r="') or rows.count(b"<row ") != rows.count(b'<row r="'):
                    return None
                if not heads:
                    first = rows[: rows.find(b"</row>") + 6]
                    if not first.startswith(b'<row r="1"'):
                        return None
                    heads = self._cells_of(first)
                    column = self._own_column(heads)
                    cell = re.compile(rb'<c r="%s(\d+)"([^>]*?)(?:/>|>(.*?)</c>)' % letters(column).encode(), re.S) if column else None
                for found in cell.finditer(rows) if cell is not None else ():
                    if found.group(1) != b"1":
                        keys.append((int(found.group(1)), *_inner(found.group(2), found.group(3) or b"")))
                for row in reversed(list(_PLAIN_ROW.finditer(rows, max(0, rows.rfind(b"<row ", 0, max(0, len(rows) - 20_000)))))):
                    if b"<v>" in row.group() or b"<t" in row.group():
                        last, final = int(row.group(1)), row.group()
                        break
                if not more:
                    break
        return heads, last, keys, self._cells_of(final)

    def _cells_of(self, row: bytes) -> list[_Cell]:
        """The cells of a row as it stands."""
        cells = []
        for each in re.finditer(rb'<c r="([A-Z]+)\d+"([^>]*?)(?:/>|>(.*?)</c>)', row, re.S):
            style = re.search(rb'\bs="(\d+)"', each.group(2))
            kind, text = _inner(each.group(2), each.group(3) or b"")
            cells.append((column_of(each.group(1).decode()), kind, text, int(style.group(1)) if style else 0))
        return cells

    def _rows(self, part: str) -> Iterator[tuple[int, list[tuple[int, str, str, int]]]]:
        """Each row with its number, and its cells: number of the column, type, text, style."""
        number = 0
        with self.held.open(part) as source:
            rows = etree.iterparse(source, tag=f"{self.space}row", resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False)
            for _, row in rows:
                number = int(row.get("r") or number + 1)
                cells, at = [], 0
                for cell in row:
                    reference = cell.get("r")
                    at = column_of(reference) if reference else at + 1
                    kind = cell.get("t") or "n"
                    if kind == "inlineStr":
                        text = "".join(each.text or "" for each in cell.iter(f"{self.space}t"))
                    else:
                        text = cell.findtext(f"{self.space}v") or ""
                    cells.append((at, kind, text, int(cell.get("s") or 0)))
                yield number, cells
                row.clear()
                while row.getprevious() is not None:
                    del row.getparent()[0]

    def _shared(self, wanted: set[int]) -> dict[int, str]:
        """Some of the texts that cells share."""
        part = self.target(self.main, "sharedStrings")
        found: dict[int, str] = {}
        if not wanted or part is None:
            return found
        with self.held.open(part) as source:
            for number, (_, each) in enumerate(
                etree.iterparse(source, tag=f"{self.space}si", resolve_entities=False, no_network=True, load_dtd=False)
            ):
                if number in wanted:
                    found[number] = "".join(text.text or "" for text in each.iter(f"{self.space}t"))
                each.clear()
                while each.getprevious() is not None:
                    del each.getparent()[0]
        return found

    def _xml(self, part: str) -> Any:
        return etree.fromstring(self.held.read(part), PARSER)

    def _related(self, part: str) -> dict[str, str]:
        """The parts that a part names, by their ids."""
        return {str(each.get("Id")): joined(part, str(each.get("Target"))) for each in self.relations(part)}

    def relations(self, part: str) -> list[Any]:
        """What a part names besides itself; of the file where it is empty."""
        place = PurePosixPath(part)
        name = str(place.parent / "_rels" / f"{place.name}.rels") if part else "_rels/.rels"
        return list(self._xml(name)) if name in self.held.namelist() else []

    def target(self, part: str, kind: str) -> str | None:
        """The first part of a kind that another names."""
        found = (each for each in self.relations(part) if str(each.get("Type")).endswith(f"/{kind}"))
        return next((joined(part, str(each.get("Target"))) for each in found), None)


def _text(kind: str, text: str, shared: Mapping[int, str]) -> str:
    return shared.get(int(text), "") if kind == "s" and text else text


def _inner(attributes: bytes, inner: bytes) -> tuple[str, str]:
    """The type and the text of a cell as it stands."""
    kind = re.search(rb'\bt="(\w+)"', attributes)
    texts = re.findall(rb"<t(?:\s[^>]*)?>([^<]*)</t>" if b"<is>" in inner else rb"<v>([^<]*)</v>", inner)
    return kind.group(1).decode() if kind else "n", unescape(b"".join(texts).decode(), {"&quot;": '"', "&apos;": "'"})


def joined(part: str, target: str) -> str:
    """The name of a part as another names it."""
    if target.startswith("/"):
        return target.lstrip("/")
    place: list[str] = list(PurePosixPath(part).parent.parts) if part else []
    for each in target.split("/"):
        if each == "..":
            place = place[:-1]
        elif each not in ("", "."):
            place.append(each)
    return "/".join(place)


def letters(column: int) -> str:
    """The letters of a column by its number, from 1."""
    told = ""
    while column:
        column, rest = divmod(column - 1, 26)
        told = chr(65 + rest) + told
    return told


def column_of(reference: str) -> int:
    """The number of the column of a cell, from 1."""
    found = 0
    for sign in reference:
        if not sign.isalpha():
            break
        found = found * 26 + ord(sign.upper()) - 64
    return found
