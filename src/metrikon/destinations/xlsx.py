"""A sheet of a workbook. The file is rewritten whole, so rows come in batches.

Each row carries its delivery key in a hidden last column, by which it is found again: a write that
was interrupted is looked up before it is repeated. Rows that are there are never touched.
"""

from __future__ import annotations

import os
import tempfile
import zipfile
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import date
from decimal import Decimal
from pathlib import Path
from typing import Any

from openpyxl import Workbook, load_workbook
from openpyxl.styles import Font
from openpyxl.utils import get_column_letter
from openpyxl.utils.exceptions import InvalidFileException
from pydantic import Field

from metrikon.core.flows.form import Form
from metrikon.core.values.found import found_in
from metrikon.destinations.cells import cell_value, same
from metrikon.destinations.former import Former
from metrikon.destinations.places import absolute, from_home
from metrikon.ports.destination import KEY_COLUMN, Broken, Busy, Can, DestinationKind, Receipt, Row, Unusable
from metrikon.ports.touching import Touched

MOST_ROWS = 1_048_576


class XlsxSheet(Form):
    """A sheet of a workbook file."""

    path: str = Field(..., min_length=1, pattern=r"\.xlsx$", description="The workbook; relative paths start at the service's folder.")
    sheet: str = Field("Rows", min_length=1, max_length=31, description="The sheet.")


class XlsxDestination:
    """Writes rows below those that are there; the first row holds the column names."""

    can: Can = "finds"
    most = 5000
    gather = 0.25
    rest = 2.0

    def __init__(self, path: Path, sheet: str) -> None:
        self.path = path
        self.sheet = sheet

    def write(self, rows: Sequence[Row]) -> list[Receipt]:
        self._open_elsewhere()
        before = _stamp(self.path)
        book, sheet = self._loaded()
        columns = _columns(sheet, rows)
        keys = _keys(sheet, columns[KEY_COLUMN])
        former = Former(keys.items(), self.sheet)
        receipts, at = [], sheet.max_row if sheet.max_row > 1 or sheet["A1"].value is not None else 1
        for row in rows:
            there = keys.get(row.key) or former.find(row, lambda at: (cell.value for cell in sheet[at]))
            if there and row.sets:
                left = _changed_since(sheet, there, columns, row)
                _put(sheet, there, columns, replace(row, values={name: value for name, value in row.values.items() if name not in left}))
                receipts.append(Receipt(row.key, "updated", f"{self.path.name}, row {there}", left))
                continue
            if there:
                receipts.append(Receipt(row.key, "there already", f"{self.path.name}, row {there}"))
                continue
            at += 1
            if at > MOST_ROWS:
                raise Broken(f"The sheet {self.sheet!r} of {self.path.name} is full ({MOST_ROWS} rows). Start a new workbook in the flow.")
            _put(sheet, at, columns, row)
            keys[row.key] = at
            receipts.append(Receipt(row.key, "written", f"{self.path.name}, row {at}"))
        if any(receipt.result != "there already" for receipt in receipts):
            self._save(book, before)
        return receipts

    def find(self, where: Mapping[str, Any], most: int) -> Iterator[Mapping[str, Any]]:
        if not self.path.exists():
            return
        book, sheet = self._loaded()
        heads = [str(cell.value) if cell.value is not None else "" for cell in sheet[1]]
        count = 0
        for cells in sheet.iter_rows(min_row=2, values_only=True):
            row = {head: found_in(value) for head, value in zip(heads, cells, strict=False) if head and head != KEY_COLUMN}
            if any(value is not None for value in row.values()) and all(same(row.get(column), value) for column, value in where.items()):
                count += 1
                if count > most:
                    raise Broken(f"The sheet {self.sheet!r} holds more than {most} rows like these. Say more in `where`.")
                yield row
        book.close()

    def _open_elsewhere(self) -> None:
        folder, name = self.path.parent, self.path.name
        for lock in (folder / f".~lock.{name}#", folder / f"~${name}"):
            if lock.exists():
                raise Busy(f"{name} is open in another program ({lock.name} is there). Close it there; the rows are kept and written then.")

    def _loaded(self) -> tuple[Workbook, Any]:
        if not self.path.exists():
            book = Workbook()
            sheet = book.active
            assert sheet is not None
            sheet.title = self.sheet
            return book, sheet
        try:
            book = load_workbook(self.path)
        except (InvalidFileException, zipfile.BadZipFile, KeyError, ValueError) as error:
            raise Unusable(f"{self.path} is no workbook that can be read ({error}). Move it away or repair it, then continue.") from error
        except OSError as error:
            raise Busy(f"{self.path} cannot be read: {error.strerror}.") from error
        return book, book[self.sheet] if self.sheet in book.sheetnames else book.create_sheet(self.sheet)

    def _save(self, book: Workbook, before: tuple[int, int] | None) -> None:
        """Write aside, sync, and put in place, unless someone changed the file meanwhile."""
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            handle, aside = tempfile.mkstemp(dir=self.path.parent, prefix=f".{self.path.stem}-", suffix=".new")
        except OSError as error:
            raise Busy(f"{self.path.parent} cannot be written to: {error.strerror}.") from error
        try:
            with os.fdopen(handle, "wb") as out:
                book.save(out)
                out.flush()
                os.fsync(out.fileno())
            self._open_elsewhere()
            if _stamp(self.path) != before:
                raise Busy(f"{self.path.name} was changed by someone else while rows were added. It is read anew and tried again.")
            os.chmod(aside, self.path.stat().st_mode & 0o777 if before else 0o600)
            os.replace(aside, self.path)
        except OSError as error:
            raise Busy(f"{self.path.name} cannot be saved: {error.strerror or error}.") from error
        finally:
            Path(aside).unlink(missing_ok=True)


def _stamp(path: Path) -> tuple[int, int] | None:
    try:
        stat = path.stat()
    except FileNotFoundError:
        return None
    return stat.st_mtime_ns, stat.st_size


def _columns(sheet: Any, rows: Sequence[Row]) -> dict[str, int]:
    """Number of each column by its name, new ones added at the end."""
    found: dict[str, int] = {}
    for cell in sheet[1] if sheet.max_row else ():
        if cell.value is not None:
            found.setdefault(str(cell.value), cell.column)
    wanted = list(dict.fromkeys(name for row in rows for name in row.values))
    for name in [*wanted, KEY_COLUMN]:
        if name not in found:
            found[name] = max(found.values(), default=0) + 1
            cell = sheet.cell(1, found[name])
            _text(cell, name)
            cell.font = Font(bold=True)
            sheet.column_dimensions[get_column_letter(found[name])].width = max(10, min(36, len(name) + 6))
    sheet.column_dimensions[get_column_letter(found[KEY_COLUMN])].hidden = True
    sheet.freeze_panes = sheet.freeze_panes or "A2"
    return found


def _keys(sheet: Any, column: int) -> dict[str, int]:
    values = sheet.iter_rows(min_row=2, min_col=column, max_col=column)
    return {str(cell.value): cell.row for (cell,) in values if cell.value is not None}


def _text(cell: Any, text: str) -> None:
    """Put text into a cell: whatever it starts with, it is never a formula."""
    cell.value = text
    cell.data_type = "s"
    if text[:1] in "=+-@":
        cell.quotePrefix = True


def _changed_since(sheet: Any, at: int, columns: dict[str, int], row: Row) -> list[str]:
    """Columns of a row that hold something else than was written into them last: a person has set them."""
    if row.was is None or row.over:
        return []
    held = {name: found_in(sheet.cell(at, columns[name]).value) for name in row.values}
    wanted = {name: (row.was.get(name), value) for name, value in row.values.items()}
    return [name for name, values in wanted.items() if not any(same(held[name], found_in(cell_value(each))) for each in values)]


def _put(sheet: Any, at: int, columns: dict[str, int], row: Row) -> None:
    for name, value in row.values.items():
        shown = cell_value(value)
        if shown is None and not row.sets:
            continue
        cell = sheet.cell(at, columns[name])
        if isinstance(shown, str):
            _text(cell, shown)
        else:
            cell.value = shown
            if isinstance(shown, Decimal):
                places = max(2, min(8, -int(shown.as_tuple().exponent))) if shown != shown.to_integral_value() else 2
                whole = shown == shown.to_integral_value() and int(shown.as_tuple().exponent) >= 0
                cell.number_format = "0" if whole else f"#,##0.{'0' * places}"
            elif isinstance(shown, date):
                cell.number_format = "yyyy-mm-dd"
    cell = sheet.cell(at, columns[KEY_COLUMN])
    if cell.value is None:  # a row of an earlier version keeps its key
        cell.value = row.key
        cell.data_type = "s"


KIND = DestinationKind(
    "xlsx",
    XlsxSheet,
    place=lambda said, there: f"xlsx:{from_home(absolute(said.path, there.home), there.home)}#{said.sheet}",
    former_place=lambda said, there: f"xlsx:{absolute(said.path, there.home)}#{said.sheet}",
    build=lambda said, there: XlsxDestination(absolute(said.path, there.home), said.sheet),
    tell=lambda said: f"the sheet {said.sheet} of {said.path}",
    touches=lambda said, home: Touched(absolute(said.path, home)),
)
