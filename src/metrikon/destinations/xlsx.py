"""A sheet of a workbook (XLSX). Rows are added in its own XML, so that all else in it stays as it was; they come in batches."""

from __future__ import annotations

import re
import zipfile
from collections.abc import Iterator, Mapping, Sequence
from datetime import date
from pathlib import Path
from typing import Any, ClassVar
from xml.sax.saxutils import quoteattr

import python_calamine
from pydantic import Field

from metrikon.core.documents.extents import MOST_OF_ROWS, TooFar, check_extents
from metrikon.core.values.found import found_in
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
from metrikon.destinations.styles import Styles
from metrikon.destinations.workbook import LARGEST, MAIN, Book, Seen
from metrikon.destinations.workbook_ordering import put_in_order
from metrikon.destinations.workbook_writing import save
from metrikon.ports.destination import KEY_COLUMN, DestinationKind, There, Unusable


class XlsxSheet(SheetForm):
    """A sheet of a workbook file (XLSX)."""

    called = ("excel", "xls", "spreadsheet", "workbook", "sheet")

    ENDING: ClassVar[str] = ".xlsx"
    sheet: str = Field("Rows", min_length=1, max_length=31, description="The sheet.")


class XlsxFormat:
    """Sheets of workbooks."""

    most = 1_048_576

    def __init__(self, sheet: str) -> None:
        self._sheet = sheet

    def held(self, path: Path, key: Sequence[str]) -> Held:
        with Book(path) as book:
            seen = book.seen(self._sheet)
        if seen is None:
            return Held()
        heads = [seen.heads.get(at, "") for at in range(1, max(seen.heads, default=0) + 1)]
        keys = seen.keys
        if key and seen.last > 1:
            keys = {}
            for at, row in self.rows(path):
                parts = [row.get(head) for head in heads if any(head.casefold() == each.casefold() for each in key)]
                if all(part is not None for part in parts):
                    keys.setdefault(own_key(_in_order(key, heads, row)), at)
        return Held(heads, seen.last, keys, seen)

    def rows(self, path: Path) -> Iterator[tuple[int, dict[str, Any]]]:
        yield from calamine_rows(path, self._sheet)

    def save(self, path: Path | None, out: Path, held: Held, changes: Changes, *, ours: bool) -> None:
        self._save(path, out, held, changes, ours=ours)
        if changes.order is not None:
            aside = out.with_suffix(".unsorted")
            out.replace(aside)
            try:
                put_in_order(aside, out, self._sheet, changes.order)
            finally:
                aside.unlink(missing_ok=True)

    def _save(self, path: Path | None, out: Path, held: Held, changes: Changes, *, ours: bool) -> None:
        if path is None:
            _new_book(out, self._sheet)
            path = out.with_suffix(".first")
            out.replace(path)
        try:
            with Book(path) as book:
                seen = held.seen or book.seen(self._sheet)
                if seen is None:
                    _with_sheet(path, out, self._sheet)
                else:
                    _save(book, out, self._sheet, seen, changes, ours=ours)
                    return
            second = out.with_suffix(".second")
            out.replace(second)
            try:
                with Book(second) as book:
                    seen = book.seen(self._sheet)
                    assert seen is not None
                    _save(book, out, self._sheet, seen, changes, ours=ours)
            finally:
                second.unlink(missing_ok=True)
        finally:
            out.with_suffix(".first").unlink(missing_ok=True)


def _in_order(key: Sequence[str], heads: Sequence[str], row: dict[str, Any]) -> list[Any]:
    return [next((row.get(head) for head in heads if head.casefold() == each.casefold()), None) for each in key]


def _save(book: Book, out: Path, sheet: str, seen: Seen, changes: Changes, *, ours: bool) -> None:
    columns = {head: at for at, head in sorted(seen.heads.items(), reverse=True)}
    fresh: dict[str, int] = {}
    for head in [*changes.heads, *([KEY_COLUMN] if ours else [])]:
        if head not in columns:
            fresh[head] = columns[head] = max(columns.values(), default=0) + 1
    rows = [{columns[head]: value for head, value in {**cells, **({KEY_COLUMN: key} if ours else {})}.items()} for key, cells in changes.rows]
    cells = {at: {columns[head]: value for head, value in each.items()} for at, each in changes.cells.items()}
    save(book, out, seen, fresh, rows, cells)


def calamine_rows(path: Path, sheet: str) -> Iterator[tuple[int, dict[str, Any]]]:
    """The rows of a sheet (XLSX, ODS) by the heads of its columns, each with its number. Raises `Unusable`."""
    try:
        with zipfile.ZipFile(path) as held:
            if sum(each.file_size for each in held.infolist()) > LARGEST:
                raise Unusable(f"{path.name} unpacks to more than {LARGEST / 1e6:.0f} MB, which is not handled.")
        with path.open("rb") as source:
            check_extents(source, MOST_OF_ROWS)
        book = python_calamine.CalamineWorkbook.from_path(str(path))
        if sheet not in book.sheet_names:
            return
        page = book.get_sheet_by_name(sheet)
        first, left = page.start or (0, 0)
        heads: list[str] = []
        for number, cells in enumerate(page.iter_rows(), first + 1):
            padded = [""] * left + list(cells)
            if number == 1:
                heads = [str(each).strip() if each not in ("", None) else "" for each in padded]
                continue
            yield number, {head: _found(value) for head, value in zip(heads, padded, strict=False) if head}
    except TooFar as error:
        raise Unusable(f"{path.name} is not opened. {error}") from error
    except (python_calamine.CalamineError, zipfile.BadZipFile, OSError) as error:
        raise Unusable(f"{path.name} is no sheet that can be read ({str(error)[:200]}). Move it away or repair it, then continue.") from error


def _found(value: Any) -> Any:
    if value == "":
        return None
    if isinstance(value, float) and value.is_integer() and abs(value) < 10**15:
        return int(value)
    return found_in(value) if isinstance(value, float | date | str | bool | int) else str(value)


_TYPES = """<?xml version="1.0" encoding="UTF-8" standalone="yes"?>
<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Default Extension="xml" ContentType="application/xml"/><Override PartName="/xl/workbook.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml"/><Override PartName="/xl/styles.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.styles+xml"/><Override PartName="/xl/worksheets/sheet1.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml"/></Types>"""
_OFFICE = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
_RELATIONS = '<?xml version="1.0" encoding="UTF-8" standalone="yes"?>\n<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">{}</Relationships>'
_SHEET = (
    f'<?xml version="1.0" encoding="UTF-8" standalone="yes"?>\n<worksheet xmlns="{MAIN[1:-1]}"><dimension ref="A1"/><sheetViews><sheetView workbookViewId="0">'
    '<pane ySplit="1" topLeftCell="A2" activePane="bottomLeft" state="frozen"/></sheetView></sheetViews><sheetData/></worksheet>'
)


def _new_book(out: Path, sheet: str) -> None:
    """A workbook with one empty sheet."""
    relation = '<Relationship Id="rId{}" Type="' + _OFFICE + '/{}" Target="{}"/>'
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        made.writestr("[Content_Types].xml", _TYPES)
        made.writestr("_rels/.rels", _RELATIONS.format(relation.format(1, "officeDocument", "xl/workbook.xml")))
        sheets = f'<sheets><sheet name={quoteattr(sheet)} sheetId="1" r:id="rId1"/></sheets>'
        made.writestr(
            "xl/workbook.xml",
            f'<?xml version="1.0" encoding="UTF-8" standalone="yes"?>\n<workbook xmlns="{MAIN[1:-1]}" xmlns:r="{_OFFICE}"><bookViews><workbookView/></bookViews>{sheets}</workbook>',
        )
        parts = relation.format(1, "worksheet", "worksheets/sheet1.xml") + relation.format(2, "styles", "styles.xml")
        made.writestr("xl/_rels/workbook.xml.rels", _RELATIONS.format(parts))
        made.writestr("xl/styles.xml", Styles.fresh())
        made.writestr("xl/worksheets/sheet1.xml", _SHEET)


def _with_sheet(path: Path, out: Path, sheet: str) -> None:
    """A workbook with one empty sheet more."""
    with zipfile.ZipFile(path) as source, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        names = set(source.namelist())
        number = next(each for each in range(1, 10_000) if f"xl/worksheets/sheet{each}.xml" not in names)
        part = f"xl/worksheets/sheet{number}.xml"
        book = source.read("xl/workbook.xml").decode()
        ids = [int(each) for each in _numbers(book)]
        told = f'<sheet xmlns:r="{_OFFICE}" name={quoteattr(sheet)} sheetId="{max(ids, default=0) + 1}" r:id="metrikon{number}"/></sheets>'
        relation = f'<Relationship Id="metrikon{number}" Type="{_OFFICE}/worksheet" Target="worksheets/sheet{number}.xml"/></Relationships>'
        kind = "application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml"
        changes = {
            "xl/workbook.xml": ("</sheets>", told),
            "xl/_rels/workbook.xml.rels": ("</Relationships>", relation),
            "[Content_Types].xml": ("</Types>", f'<Override PartName="/{part}" ContentType="{kind}"/></Types>'),
        }
        for each in source.infolist():
            data = source.read(each)
            if each.filename in changes:
                old, new = changes[each.filename]
                if old not in data.decode():
                    raise Unusable(f"{path.name} has no sheet {sheet!r}, and none can be added to it. Add it with an office program, then continue.")
                data = data.decode().replace(old, new).encode()
            made.writestr(each, data)
        made.writestr(part, _SHEET)


def _numbers(book: str) -> list[str]:
    return re.findall(r'\bsheetId="(\d+)"', book)


def work(request: Mapping[str, Any]) -> bytes:
    """Apart: rows of a sheet written, found, or its heads."""
    return done(request, XlsxFormat(str(request["said"]["sheet"])))


def _build(said: XlsxSheet, there: There) -> ApartSheet:
    return ApartSheet(file_of(said, there), there.apart, work, said)


KIND = DestinationKind(
    "xlsx",
    XlsxSheet,
    place=lambda said, there: place_of("xlsx", said, there, said.sheet),
    former_place=lambda said, there: former_place_of("xlsx", said, there, said.sheet),
    build=_build,
    tell=lambda said: f"the sheet {said.sheet} of {said.path}",
    touches=touched_by,
    names=columns_of,
)
