"""Workbooks changed in their own XML (ECMA-376, SpreadsheetML): rows are added and cells set, every other byte stays as it was, and memory stays flat."""

from __future__ import annotations

import re
import shutil
import zipfile
from collections.abc import Mapping
from datetime import date, datetime
from decimal import Decimal
from pathlib import Path, PurePosixPath
from typing import IO, Any
from xml.sax.saxutils import escape

from lxml import etree

from metrikon.destinations.cells import Link, digits
from metrikon.destinations.styles import Styles
from metrikon.destinations.workbook import CHUNK, PARSER, Book, Seen, column_of, joined, letters
from metrikon.ports.destination import KEY_COLUMN, Unusable

EPOCHS = {False: date(1899, 12, 30), True: date(1904, 1, 1)}  # of the numbers of days
END = re.compile(rb"</(?:\w+:)?sheetData\s*>|<(?:\w+:)?sheetData\s*/>")
_BEGIN = re.compile(rb"<(\w+:)?sheetData\b[^>]*>")
_ROW_END = re.compile(rb"</(?:\w+:)?row\s*>|<(?:\w+:)?row\b[^>]*/>")
_NUMBER = re.compile(rb'<(?:\w+:)?row\b(?:[^>]*?\br="(\d+)")?')
_OURS = re.compile(r' xmlns(?::\w+)?="[^"]*"')


def save(book: Book, out: Path, seen: Seen, heads: Mapping[str, int], rows: list[dict[int, Any]], cells: Mapping[int, Mapping[int, Any]]) -> None:
    """Write it anew. `heads`: columns that are added, by head; `rows`: cells of rows that are added, `cells`: of rows that are there, by number."""
    place = book.target(book.main, "styles")
    styles = Styles(book.held.read(place) if place else None)
    writer = _Writer(book, seen, styles, heads, rows, cells)
    last = max(seen.last, 1) + len(rows)
    tables = _tables(book, seen.part, seen.last, last) if rows else {}
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as target:
        with book.held.open(seen.part) as source, target.open(like(book.held.getinfo(seen.part)), "w") as made:
            writer.write(source, made)
        changed: dict[str, bytes | None] = {**tables, **(without_chain(book) if writer.formulas_gone else {})}
        if place:
            changed[place] = styles.data()
        copy_parts(book, target, {**changed, seen.part: None})


def copy_parts(book: Book, target: zipfile.ZipFile, changed: Mapping[str, bytes | None]) -> None:
    """All parts of a workbook as they are, but for some that are changed, or left out (None)."""
    for each in book.held.infolist():
        if each.filename not in changed:
            with book.held.open(each) as source, target.open(like(each), "w") as made:
                shutil.copyfileobj(source, made, CHUNK)
        elif (data := changed[each.filename]) is not None:
            target.writestr(like(each), data)


def without_chain(book: Book) -> dict[str, bytes | None]:
    """What is changed where the part that lists the cells with formulas is left out: programs make it anew, and take one that names others for damage."""
    chain = book.target(book.main, "calcChain")
    if chain is None or chain not in book.held.namelist():
        return {}
    place = PurePosixPath(book.main)
    relations, types = str(place.parent / "_rels" / f"{place.name}.rels"), "[Content_Types].xml"
    return {
        chain: None,
        relations: re.sub(rb'<(?:\w+:)?Relationship\b[^>]*/calcChain"[^>]*/>', b"", book.held.read(relations)),
        types: re.sub(rb'<(?:\w+:)?Override\b[^>]*PartName="/?%s"[^>]*/>' % re.escape(chain.encode()), b"", book.held.read(types)),
    }


def _tables(book: Book, part: str, before: int, now: int) -> dict[str, bytes]:
    """The tables of a sheet that end with its last row, grown with it."""
    found: dict[str, bytes] = {}
    for each in book.relations(part):
        if str(each.get("Type")).endswith("/table"):
            name = joined(part, str(each.get("Target")))
            data = book.held.read(name)
            if not re.search(rb'totalsRowCount="[1-9]', data):
                found[name] = re.sub(rb'(\bref="[A-Z]+\d+:[A-Z]+)%d"' % before, rb"\g<1>%d" % now + b'"', data)
    return found


class _Writer:
    """Writes a sheet as it was, with what is changed."""

    def __init__(
        self, book: Book, seen: Seen, styles: Styles, heads: Mapping[str, int], rows: list[dict[int, Any]], cells: Mapping[int, Mapping[int, Any]]
    ) -> None:
        self._book, self._seen, self._styles, self._heads, self._rows = book, seen, styles, heads, rows
        self._cells: dict[int, dict[int, Any]] = {at: dict(each) for at, each in cells.items()}
        if heads:
            self._cells[1] = {**self._cells.get(1, {}), **{at: name for name, at in heads.items()}}
        self._plain = book.target(book.main, "styles") is None  # a workbook without styles gets none
        self._prefix = b""
        self._root = b""
        self.formulas_gone = False  # whether one stood where a value was set

    def write(self, source: IO[bytes], out: IO[bytes]) -> None:
        """From the part as it is to the part as it becomes."""
        rest = self._head(source, out)
        if self._cells:
            rest = self._set_cells(source, out, rest)
        keep = b""
        while True:
            match = END.search(rest, max(0, rest.find(b"sheetData") - 80)) if b"sheetData" in rest else None
            if match is not None:
                break
            out.write(rest[:-200])
            keep = rest[-200:]
            more = source.read(CHUNK)
            if not more:
                raise Unusable(f"The sheet in {self._book.path.name} has no end. Repair it, then continue.")
            rest = keep + more
        empty = match.group().endswith(b"/>")
        out.write(rest[: match.start()])
        if empty:
            out.write(b"<%ssheetData>" % self._prefix)
        self._add(out)
        out.write(b"</%ssheetData>" % self._prefix if empty else match.group())
        tail = rest[match.end() :] + source.read()
        out.write(self._grown(tail))

    def _head(self, source: IO[bytes], out: IO[bytes]) -> bytes:
        """All before the rows; what was read beyond it is returned."""
        data = b""
        while _BEGIN.search(data) is None:
            more = source.read(CHUNK)
            if not more:
                raise Unusable(f"The sheet in {self._book.path.name} has no rows to add to. Repair it, then continue.")
            data += more
        match = _BEGIN.search(data)
        assert match is not None
        if re.match(rb'\s*<\?xml[^>]*encoding=["\'](?!utf-?8)', data, re.I) or data[:2] in (b"\xff\xfe", b"\xfe\xff"):
            raise Unusable(f"The sheet in {self._book.path.name} is not written as UTF-8. Save it with another program, then continue.")
        self._prefix = match.group(1) or b""
        found = re.search(rb"<(?:\w+:)?worksheet\b[^>]*>", data)
        self._root = found.group() if found else b"<worksheet>"
        head = data[: match.start()]
        if self._rows:
            last = max(self._seen.last, 1) + len(self._rows)
            head = re.sub(rb'(<(?:\w+:)?dimension ref=")[^"]*(")', rb"\g<1>A1:%s%d\g<2>" % (letters(self._widest()).encode(), last), head)
        if KEY_COLUMN in self._heads:
            head = self._hidden(head)
        out.write(head)
        if match.group().endswith(b"/>") and self._cells:  # an empty sheet gets its heads
            out.write(b"<%ssheetData>" % self._prefix)
            return b"</%ssheetData>" % self._prefix + data[match.end() :]
        if match.group().endswith(b"/>"):
            return data[match.start() :]
        out.write(match.group())
        return data[match.end() :]

    def _widest(self) -> int:
        return max([*self._seen.heads, *self._heads.values(), *(at for row in self._rows for at in row), 1])

    def _hidden(self, head: bytes) -> bytes:
        """The column of our keys is hidden; ranges of columns that cover it are parted."""
        at, name = self._heads[KEY_COLUMN], self._prefix.decode()
        own = f'<{name}col min="{at}" max="{at}" width="10" hidden="1" customWidth="1"/>'
        found = re.search(rb"<(?:\w+:)?cols>.*?</(?:\w+:)?cols>", head, re.S)
        if found is None:
            return head + f"<{name}cols>{own}</{name}cols>".encode()
        made: list[tuple[int, str]] = [(at, own)]
        for each in re.findall(r"<(?:\w+:)?col\b[^>]*/>", found.group().decode()):
            first, last = (int("".join(re.findall(rf'\b{word}="(\d+)"', each)) or "0") for word in ("min", "max"))
            for low, high in ((first, min(last, at - 1)), (max(first, at + 1), last)) if first <= at <= last else ((first, last),):
                if low <= high:
                    made.append((low, re.sub(r'\bmax="\d+"', f'max="{high}"', re.sub(r'\bmin="\d+"', f'min="{low}"', each))))
        told = "".join(each for _, each in sorted(made))
        return head[: found.start()] + f"<{name}cols>{told}</{name}cols>".encode() + head[found.end() :]

    def _set_cells(self, source: IO[bytes], out: IO[bytes], rest: bytes) -> bytes:
        """Rows up to the last in which cells are set; what was read beyond is returned."""
        number, left, at = 0, dict(self._cells), 0
        while left:
            row = _ROW_END.search(rest, at)
            if row is None:
                if END.search(rest, at) is not None:
                    break
                more = source.read(CHUNK)
                if not more:
                    break
                out.write(rest[:at])
                rest, at = rest[at:] + more, 0
                continue
            begins = rest.find(b"<", at)
            told = _NUMBER.match(rest, begins)
            if told is None and END.match(rest, begins):
                break
            number = int(told.group(1)) if told and told.group(1) else number + 1
            if number in left:
                out.write(rest[:at])
                out.write(self._changed(rest[at : row.end()], number, left.pop(number)))
                rest, at = rest[row.end() :], 0
            else:
                at = row.end()
        out.write(rest[:at])
        rest = rest[at:]
        for at in sorted(left):
            out.write(self._row(at, left[at], {}, self._seen.head_styles if at == 1 else {}))
        return rest

    def _changed(self, data: bytes, number: int, cells: Mapping[int, Any]) -> bytes:
        """A row with some of its cells set."""
        begins = data.index(b"<")
        name = re.match(rb"</?(?:(\w+):)?worksheet|<(?:(\w+):)?", self._root)
        closing = b"</%sworksheet>" % (b"%s:" % name.group(2) if name and name.group(2) else b"")
        root = etree.fromstring(self._root + data[begins:] + closing, PARSER)
        row = root[0]
        at, there = 0, dict[int, Any]()
        for cell in row:
            at = column_of(str(cell.get("r"))) if cell.get("r") else at + 1
            there[at] = cell
        for at, value in cells.items():
            kept = (
                int(there[at].get("s") or 0)
                if at in there
                else self._seen.head_styles.get(at - 1, 0)
                if number == 1
                else self._seen.styles.get(at, 0)
            )
            made = self._cell(at, number, value, kept)
            fresh = etree.fromstring(self._root + made.encode() + closing, PARSER)[0] if made else None
            if at in there:
                place = row.index(there[at])
                self.formulas_gone = self.formulas_gone or any(each.tag.endswith("}f") for each in there[at])
                row.remove(there[at])
                if fresh is not None:
                    row.insert(place, fresh)
            elif fresh is not None:
                row.insert(sum(each < at for each in there), fresh)
            if fresh is not None:
                there[at] = fresh
        text = etree.tostring(row, encoding="unicode", with_tail=False)
        end = text.index(">") + 1
        return data[:begins] + (_OURS.sub("", text[:end]) + text[end:]).encode()

    def _add(self, out: IO[bytes]) -> None:
        first = max(self._seen.last, 1) + 1
        for number, row in enumerate(self._rows, first):
            out.write(self._row(number, row, self._seen.styles if self._seen.last > 1 else {}, {}))

    def _row(self, number: int, cells: Mapping[int, Any], styles: Mapping[int, int], heads: Mapping[int, int]) -> bytes:
        bold = number == 1
        told = "".join(self._cell(at, number, cells[at], self._styles.bold() if bold else styles.get(at, 0)) for at in sorted(cells))
        return f'<{self._prefix.decode()}row r="{number}">{told}</{self._prefix.decode()}row>'.encode()

    def _cell(self, column: int, row: int, value: Any, style: int) -> str:
        """A cell; nothing for no value. `style`: of the cell that was there, or of the one above."""
        if value is None:
            return ""
        at, name = f"{letters(column)}{row}", self._prefix.decode()
        if isinstance(value, bool):
            return f'<{name}c r="{at}"{self._s(style)} t="b"><{name}v>{int(value)}</{name}v></{name}c>'
        if isinstance(value, int | Decimal):
            style = style if style and not self._styles.is_text(style) else self._styles.number(value)
            return f'<{name}c r="{at}"{self._s(style)}><{name}v>{digits(value)}</{name}v></{name}c>'
        if isinstance(value, datetime | date):
            style = style if self._styles.is_date(style) else self._styles.date(isinstance(value, datetime))
            return f'<{name}c r="{at}"{self._s(style)}><{name}v>{self._serial(value)}</{name}v></{name}c>'
        if isinstance(value, Link):
            told = ", ".join(_quoted(each) for each in (value.place, value))
            return f'<{name}c r="{at}"{self._s(style)} t="str"><{name}f>HYPERLINK({_kept(told)})</{name}f><{name}v>{_kept(value)}</{name}v></{name}c>'
        text = str(value)
        style = self._styles.quoted(style) if text[:1] in ("=", "+", "-", "@") else style
        return f'<{name}c r="{at}"{self._s(style)} t="inlineStr"><{name}is><{name}t xml:space="preserve">{_kept(text)}</{name}t></{name}is></{name}c>'

    def _s(self, style: int) -> str:
        return f' s="{style}"' if style and not self._plain else ""

    def _serial(self, value: date) -> str:
        epoch = EPOCHS[self._book.since_1904]
        if not isinstance(value, datetime):
            return str((value - epoch).days)
        seconds = value.hour * 3600 + value.minute * 60 + value.second
        return f"{(value.date() - epoch).days + seconds / 86400:.10f}".rstrip("0").rstrip(".")

    def _grown(self, tail: bytes) -> bytes:
        """What comes after the rows, a filter over all of them grown with them."""
        last = max(self._seen.last, 1) + len(self._rows)
        return re.sub(rb'(<(?:\w+:)?autoFilter\b[^>]*?\bref="\$?[A-Z]+\$?\d+:\$?[A-Z]+\$?)%d"' % self._seen.last, rb"\g<1>%d" % last + b'"', tail)


def _quoted(text: str) -> str:
    """A text in a formula: nothing in it is worked out."""
    return '"' + text.replace('"', '""').replace("\n", " ") + '"'


def _kept(text: str) -> str:
    """Text as XML has it; what looks like an escaped sign stays as it is written (ECMA-376, 22.9.2.19)."""
    return re.sub(r"_(?=x[0-9A-Fa-f]{4}_)", "_x005F_", escape(text)).replace("\r", "&#13;")


def like(info: zipfile.ZipInfo) -> zipfile.ZipInfo:
    """A part of the same name, packed."""
    made = zipfile.ZipInfo(info.filename, info.date_time)
    made.compress_type, made.external_attr = zipfile.ZIP_DEFLATED, info.external_attr
    return made
