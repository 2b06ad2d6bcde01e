"""A sheet of an OpenDocument file (ODS, ISO/IEC 26300): rows are added in its own XML, all other parts of the file stay as they are."""

from __future__ import annotations

import copy
import shutil
import zipfile
from collections.abc import Iterator, Mapping, Sequence
from datetime import date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any, ClassVar
from xml.sax.saxutils import quoteattr

from lxml import etree
from pydantic import Field

from metrikon.destinations.cells import Link, digits
from metrikon.destinations.ordering import FIRST, Move, moved
from metrikon.destinations.sheet_apart import ApartSheet, done
from metrikon.destinations.sheets import (
    Changes,
    Held,
    SheetForm,
    columns_of,
    file_of,
    former_place_of,
    own_key,
    place_of,
    touched_by,
)
from metrikon.destinations.workbook import letters
from metrikon.destinations.xlsx import calamine_rows
from metrikon.ports.destination import KEY_COLUMN, DestinationKind, There, Unusable

_SPACES = {
    "office": "urn:oasis:names:tc:opendocument:xmlns:office:1.0",
    "table": "urn:oasis:names:tc:opendocument:xmlns:table:1.0",
    "text": "urn:oasis:names:tc:opendocument:xmlns:text:1.0",
    "style": "urn:oasis:names:tc:opendocument:xmlns:style:1.0",
    "number": "urn:oasis:names:tc:opendocument:xmlns:datastyle:1.0",
}
LARGEST, CHUNK = 300_000_000, 1 << 20
_PARSER = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=True)
_TYPE = "application/vnd.oasis.opendocument.spreadsheet"


class OdsSheet(SheetForm):
    """A sheet of an OpenDocument file (ODS)."""

    called = ("libreoffice", "calc", "opendocument")

    ENDING: ClassVar[str] = ".ods"
    sheet: str = Field("Rows", min_length=1, max_length=31, description="The sheet.")


def _n(space: str, name: str) -> str:
    return f"{{{_SPACES[space]}}}{name}"


class OdsFormat:
    """Sheets of OpenDocument files."""

    most = 1_048_576

    def __init__(self, sheet: str) -> None:
        self._sheet = sheet

    def held(self, path: Path, key: Sequence[str]) -> Held:
        heads: list[str] = []
        keys: dict[str, int] = {}
        last = 0
        for number, row in calamine_rows(path, self._sheet):
            heads = heads or list(row)
            if any(value is not None for value in row.values()):
                last = number
            parts = [next((row[head] for head in row if head.casefold() == each.casefold()), None) for each in key or (KEY_COLUMN,)]
            if all(part is not None for part in parts):
                keys.setdefault(own_key(parts) if key else str(parts[0]), number)
        table = _table(_content(path), self._sheet)
        if table is not None and not heads:
            heads = [text for _, text in sorted(_texts(_row_at(table, 1)).items())]
        return Held(heads, max(last, 1 if heads else 0), keys)

    def rows(self, path: Path) -> Iterator[tuple[int, dict[str, Any]]]:
        yield from calamine_rows(path, self._sheet)

    def save(self, path: Path | None, out: Path, held: Held, changes: Changes, *, ours: bool) -> None:
        root = _content(path) if path is not None else etree.fromstring(_EMPTY.encode(), _PARSER)
        table = _table(root, self._sheet)
        if table is None:
            table = _new_table(root, self._sheet)
        first = _texts(_row_at(table, 1))
        columns = {text: at for at, text in sorted(first.items(), reverse=True)}
        for head in [*changes.heads, *([KEY_COLUMN] if ours else [])]:
            if head not in columns:
                columns[head] = max([0, *columns.values()]) + 1
                _set(_row_at(table, 1), columns[head], head)
                if head == KEY_COLUMN:
                    _hide(table, columns[head])
        for at, cells in changes.cells.items():
            for head, value in cells.items():
                _set(_row_at(table, at), columns[head], value)
        last = max(held.last, 1)
        above = _styles(_row_at(table, last)) if last > 1 else {}
        for number, (key, cells) in enumerate(changes.rows, last + 1):
            row = _row_at(table, number)
            for head, value in {**cells, **({KEY_COLUMN: key} if ours else {})}.items():
                _set(row, columns[head], value, above.get(columns[head]))
        if changes.order is not None:
            _put_in_order(table, self._sheet, changes.order)
        _write(path, out, etree.tostring(root, xml_declaration=True, encoding="UTF-8"))


def _content(path: Path) -> Any:
    try:
        with zipfile.ZipFile(path) as held:
            if sum(each.file_size for each in held.infolist()) > LARGEST:
                raise Unusable(f"{path.name} unpacks to more than {LARGEST / 1e6:.0f} MB, which is not handled.")
            return etree.fromstring(held.read("content.xml"), _PARSER)
    except (zipfile.BadZipFile, KeyError, etree.XMLSyntaxError, NotImplementedError) as error:
        raise Unusable(f"{path.name} is no sheet that can be read ({error}). Move it away or repair it, then continue.") from error


def _table(root: Any, name: str) -> Any:
    return next((each for each in root.iter(_n("table", "table")) if each.get(_n("table", "name")) == name), None)


def _new_table(root: Any, name: str) -> Any:
    sheets = next(root.iter(_n("office", "spreadsheet")))
    made = etree.Element(_n("table", "table"), {_n("table", "name"): name})
    tables = [at for at, each in enumerate(sheets) if each.tag == _n("table", "table")]
    sheets.insert(tables[-1] + 1 if tables else 0, made)
    return made


def _row_at(table: Any, number: int) -> Any:
    """The row with a number, from 1, parted from those that are written together with it; made where there is none."""
    at, last = 0, None
    for row in table.iter(_n("table", "table-row")):
        times = int(row.get(_n("table", "number-rows-repeated")) or 1)
        if at + times >= number:
            return _parted(row, number - at - 1, times, "number-rows-repeated")
        at, last = at + times, row
    made = etree.Element(_n("table", "table-row"))
    if number - at > 1:
        made.set(_n("table", "number-rows-repeated"), str(number - at))
        etree.SubElement(made, _n("table", "table-cell"))
    table.append(made) if last is None else last.addnext(made)
    return _parted(made, number - at - 1, number - at, "number-rows-repeated")


def _put_in_order(table: Any, sheet: str, order: Sequence[int]) -> None:
    """Put the rows beneath the heads into another order: each goes with its cells, notes and links, and what its formulas say of their own row."""
    last = FIRST + len(order) - 1
    rows = _singly(table, FIRST, last)
    places = [etree.Element(_n("table", "table-row")) for _ in rows]
    for place, row in zip(places, rows, strict=True):
        row.addprevious(place)
    for now, before in enumerate(order, FIRST):
        row = rows[before - FIRST]
        for at, _, cell in _cells(row):
            where = f"{letters(at)}{before}"
            if any(int(cell.get(_n("table", name)) or 1) > 1 for name in ("number-rows-spanned", "number-matrix-rows-spanned")):
                raise Unusable(f"The cell {where} goes over several rows, which cannot be sorted. Part it, then continue.")
            if now != before and (formula := cell.get(_n("table", "formula"))):
                cell.set(_n("table", "formula"), moved(formula, Move(before, now, last, sheet), where, opened=True))
        row.tail = None
        places[now - FIRST].addprevious(row)
    for place in places:
        _removed(place)


def _singly(table: Any, first: int, last: int) -> list[Any]:
    """The rows from one number to another, each by itself; made where there are none."""
    _row_at(table, last)
    found, at = [], 0
    for row in list(table.iter(_n("table", "table-row"))):
        times = int(row.get(_n("table", "number-rows-repeated")) or 1)
        start, stop = max(first, at + 1), min(last, at + times) + 1
        if start < stop:
            found += [row] if times == 1 else _spread(row, start - at - 1, stop - start, at + times + 1 - stop)
        at += times
        if at >= last:
            break
    return found


def _spread(row: Any, before: int, singly: int, after: int) -> list[Any]:
    """A row that is written once for many: some of them made rows of their own."""
    made = []
    for count in (before, *[1] * singly, after):
        if count:
            made.append(copy.deepcopy(row))
            made[-1].tail = None
            _repeated(made[-1], count, "number-rows-repeated")
            row.addprevious(made[-1])
    _removed(row)
    return made[1 if before else 0 :][:singly]


def _removed(element: Any) -> None:
    element.getparent().remove(element)


def _parted(element: Any, before: int, times: int, name: str) -> Any:
    """One of several equal elements that are written as one."""
    if times == 1:
        return element
    for count, put in ((times - before - 1, element.addnext), (before, element.addprevious)):
        if count:
            other = copy.deepcopy(element)
            other.tail = None
            _repeated(other, count, name)
            put(other)
    _repeated(element, 1, name)
    return element


def _repeated(element: Any, count: int, name: str) -> None:
    element.attrib.pop(_n("table", name), None)
    if count > 1:
        element.set(_n("table", name), str(count))


def _cells(row: Any) -> Iterator[tuple[int, int, Any]]:
    """The cells of a row: number of the first column, how many, the element."""
    at = 1
    for cell in row:
        if cell.tag in (_n("table", "table-cell"), _n("table", "covered-table-cell")):
            times = int(cell.get(_n("table", "number-columns-repeated")) or 1)
            yield at, times, cell
            at += times


def _texts(row: Any) -> dict[int, str]:
    """The texts of a row by the numbers of their columns."""
    return {at: text for at, _, cell in _cells(row) if (text := "".join(cell.itertext()).strip())}


def _styles(row: Any) -> dict[int, str]:
    styles = {}
    for at, times, cell in _cells(row):
        if times < 1000 and (style := cell.get(_n("table", "style-name"))):
            styles.update(dict.fromkeys(range(at, at + times), style))
    return styles


def _set(row: Any, column: int, value: Any, style: str | None = None) -> None:
    """Put a value into a cell of a row."""
    end = 0
    for at, times, cell in list(_cells(row)):
        if at <= column < at + times:
            _put(_parted(cell, column - at, times, "number-columns-repeated"), value, style)
            return
        end = at + times - 1
    if value is None:
        return
    if column - end > 1:
        etree.SubElement(row, _n("table", "table-cell"), {_n("table", "number-columns-repeated"): str(column - end - 1)} if column - end > 2 else {})
    _put(etree.SubElement(row, _n("table", "table-cell")), value, style)


def _put(cell: Any, value: Any, style: str | None) -> None:
    kept = cell.get(_n("table", "style-name")) or style
    for child in list(cell):
        cell.remove(child)
    for name in list(cell.attrib):
        if name.startswith(f"{{{_SPACES['office']}}}") or name == _n("table", "formula") or "value-type" in name:
            del cell.attrib[name]
    if kept:
        cell.set(_n("table", "style-name"), kept)
    if value is None:
        return
    if isinstance(value, date) and not kept:
        cell.set(_n("table", "style-name"), _date_style(cell, timed=isinstance(value, datetime)))
    for name, told in _typed(value).items():
        cell.set(_n("office", name), told)
    if isinstance(value, Link):
        paragraph = etree.SubElement(cell, _n("text", "p"))
        etree.SubElement(
            paragraph, _n("text", "a"), {"{http://www.w3.org/1999/xlink}href": value.place, "{http://www.w3.org/1999/xlink}type": "simple"}
        ).text = str(value)
        return
    for line in (value if isinstance(value, str) else _shown(value)).split("\n"):
        etree.SubElement(cell, _n("text", "p")).text = line


def _date_style(cell: Any, *, timed: bool) -> str:
    """A style that shows dates as ISO 8601 has them; made once."""
    name = "metrikon-moment" if timed else "metrikon-date"
    root = cell.getroottree().getroot()
    styles = root.find(_n("office", "automatic-styles"))
    if styles is None:
        styles = etree.Element(_n("office", "automatic-styles"))
        next(root.iter(_n("office", "body"))).addprevious(styles)
    if all(each.get(_n("style", "name")) != name for each in styles):
        shown = etree.SubElement(styles, _n("number", "date-style"), {_n("style", "name"): f"{name}-as"})
        parts = ["year", "-", "month", "-", "day", *([" ", "hours", ":", "minutes", ":", "seconds"] if timed else [])]
        for part in parts:
            made = etree.SubElement(
                shown, _n("number", part if part.isalpha() else "text"), {_n("number", "style"): "long"} if part.isalpha() else {}
            )
            made.text = None if part.isalpha() else part
        told = {_n("style", "name"): name, _n("style", "family"): "table-cell", _n("style", "data-style-name"): f"{name}-as"}
        etree.SubElement(styles, _n("style", "style"), told)
    return name


def _typed(value: Any) -> Mapping[str, str]:
    if isinstance(value, bool):
        return {"value-type": "boolean", "boolean-value": "true" if value else "false"}
    if isinstance(value, int | Decimal):
        return {"value-type": "float", "value": digits(value)}
    if isinstance(value, datetime | date):
        bare = value.replace(tzinfo=None) if isinstance(value, datetime) else value  # a cell knows no zone
        return {"value-type": "date", "date-value": bare.isoformat()}
    return {"value-type": "string"}


def _shown(value: Any) -> str:
    return ("TRUE" if value else "FALSE") if isinstance(value, bool) else digits(value) if isinstance(value, int | Decimal) else value.isoformat()


def _hide(table: Any, column: int) -> None:
    """The column of our keys is hidden."""
    at, last = 1, None
    for each in table.iter(_n("table", "table-column")):
        times = int(each.get(_n("table", "number-columns-repeated")) or 1)
        if at <= column < at + times:
            _parted(each, column - at, times, "number-columns-repeated").set(_n("table", "visibility"), "collapse")
            return
        at, last = at + times, each
    made = []
    if column - at > 0:
        made.append(etree.Element(_n("table", "table-column"), {_n("table", "number-columns-repeated"): str(column - at)} if column - at > 1 else {}))
    made.append(etree.Element(_n("table", "table-column"), {_n("table", "visibility"): "collapse"}))
    for each in made:
        table.insert(0, each) if last is None else last.addnext(each)
        last = each


def _write(path: Path | None, out: Path, content: bytes) -> None:
    if path is None:
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
            made.writestr("mimetype", _TYPE, zipfile.ZIP_STORED)
            made.writestr("META-INF/manifest.xml", _MANIFEST)
            made.writestr("content.xml", content)
        return
    with zipfile.ZipFile(path) as source, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        for each in source.infolist():
            if each.filename == "content.xml":
                made.writestr(each, content, zipfile.ZIP_DEFLATED)
                continue
            with source.open(each) as part, made.open(each, "w") as target:
                shutil.copyfileobj(part, target, CHUNK)


_EMPTY = (
    f'<office:document-content {" ".join(f"xmlns:{name}={quoteattr(space)}" for name, space in _SPACES.items())} office:version="1.3">'
    "<office:body><office:spreadsheet/></office:body></office:document-content>"
)
_MANIFEST = (
    '<?xml version="1.0" encoding="UTF-8"?>\n<manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0" manifest:version="1.3">'
    f'<manifest:file-entry manifest:full-path="/" manifest:media-type="{_TYPE}"/><manifest:file-entry manifest:full-path="content.xml" manifest:media-type="text/xml"/>'
    "</manifest:manifest>"
)


def work(request: Mapping[str, Any]) -> bytes:
    """Apart: rows of a sheet written, found, or its heads."""
    return done(request, OdsFormat(str(request["said"]["sheet"])))


def _build(said: OdsSheet, there: There) -> ApartSheet:
    return ApartSheet(file_of(said, there), there.apart, work, said)


KIND = DestinationKind(
    "ods",
    OdsSheet,
    place=lambda said, there: place_of("ods", said, there, said.sheet),
    former_place=lambda said, there: former_place_of("ods", said, there, said.sheet),
    build=_build,
    tell=lambda said: f"the sheet {said.sheet} of {said.path}",
    touches=touched_by,
    names=columns_of,
)
