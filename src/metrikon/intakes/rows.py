"""Rows of a sheet (XLSX, ODS, CSV) or of a table of a database: each once, by a key or by what it holds; changed ones anew where that is wanted."""

from __future__ import annotations

import hashlib
import itertools
import tempfile
import zipfile
from collections.abc import Iterator, Mapping
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any, Literal

import python_calamine
from lxml import etree
from pydantic import Field, model_validator
from sqlalchemy import Engine

from metrikon.connections.fetching import FetchFailed
from metrikon.connections.sql import SQLITE, file_engine, path_of, table_rows, touched
from metrikon.core.documents.extents import MOST_OF_ROWS, TooFar, check_extents
from metrikon.core.flows.coming import Gathered
from metrikon.core.flows.form import ConnectionName
from metrikon.core.values.delimited import rows_of
from metrikon.core.values.exact import as_kept, dumps, dumps_sorted, loads
from metrikon.core.values.text import clean
from metrikon.ports.destination import Broken, Busy, Unusable
from metrikon.ports.intake import Here, IntakeFailed, IntakeKind, Piece, Quiet, Thing
from metrikon.ports.reader import Refused
from metrikon.ports.step import ReaderDied
from metrikon.ports.touching import Touched

MOST, WIDEST = 1_000_000, 1000  # rows and columns


class Rows(Gathered):
    """Rows of a sheet or a table; the heads of its columns name their values under `item.data`."""

    path: str | None = Field(None, max_length=1000, description="A file (XLSX, ODS or CSV); relative paths start at the service's folder.")
    sheet: str | None = Field(None, max_length=100, description="Its sheet; the first when left out.")
    connection: ConnectionName | None = Field(None, description="Or the name of a connection to a database (postgresql://…, mariadb://…).")
    url: str | None = Field(None, max_length=1000, description="Or a database file, such as sqlite:///plants.db.")
    table: str | None = Field(
        None,
        pattern=r"^([A-Za-z_][A-Za-z0-9_]{0,62}\.)?[A-Za-z_][A-Za-z0-9_]{0,62}$",
        description="Its table, after its schema and a point if it has one.",
    )
    key: list[str] = Field(
        default_factory=list, max_length=20, description="Columns that tell a row from others; all of what it holds when left out."
    )
    which: Literal["new", "changed", "all"] = Field(
        "new", description="Rows that were not there before; those that changed as well; or all, which a schedule goes through each time."
    )
    every: float = Field(60.0, ge=1, le=86_400, description="Seconds after which it is looked at anew.")

    @model_validator(mode="after")
    def _one_place(self) -> Rows:
        if sum(each is not None for each in (self.path, self.url, self.connection)) != 1:
            raise ValueError("Give a file (path), a database file (url) or a connection to a database, one of them.")
        if (self.path is not None) == (self.table is not None):
            raise ValueError("A database wants the name of the table as well.")
        if self.url is not None and not self.url.startswith(SQLITE):
            raise ValueError(
                "The address of a server stands in a connection, with its secret: make one, and name it as `connection`. A file is sqlite:///…."
            )
        if self.which == "changed" and not self.key:
            raise ValueError("To know which rows changed, say by which columns (key) they are told from others.")
        return self


class RowSource(Quiet):
    """The rows of a sheet or a table."""

    def __init__(self, said: Rows, here: Here) -> None:
        self.said, self._here = said, here
        self.every = said.every
        self._seen: tuple[int, int] | None = None  # of the file as it was last gone through

    def test(self) -> str:
        heads, rows = self._table()
        count = sum(1 for _ in rows)
        return f"{self._what()} holds {count} row{'s' if count != 1 else ''}; columns: {', '.join(heads[:30])}."

    def there(self) -> Iterator[Thing]:
        yield from list(self.things(""))[::-1]

    def new(self, cursor: Any, moment: int) -> Iterator[Thing]:
        stamp = self._stamp()
        if stamp is not None and stamp == self._seen:
            return
        yield from self.things("")
        self._seen = stamp

    def get(self, thing: Thing) -> list[Piece]:
        return [Piece(thing.name, dumps(thing.data))]

    def things(self, time_: str) -> Iterator[Thing]:
        """The rows in their order. `time_`: for which time of a schedule; rows of another are others."""
        heads, rows = self._table()
        for name in self.said.key:
            if name not in heads:
                raise IntakeFailed(f"{self._what()} has no column {name!r}. Columns: {', '.join(heads[:30])}. Correct the flow.")
        at = self._changed_at()
        alike: dict[str, int] = {}
        for number, row in enumerate(rows, 1):
            others = {name: value for name, value in row.items() if name not in self._here.own} if self._here.own else row
            told = dumps_sorted([row.get(name) for name in self.said.key] if self.said.key else others)
            if self.said.which == "changed":
                told += dumps_sorted(others)
            digest = hashlib.sha256(told).hexdigest()[:40]
            alike[digest] = alike.get(digest, 0) + 1
            place = f" {alike[digest]}" if alike[digest] > 1 and not self.said.key else ""  # two rows that say the same are two
            shown = clean(" ".join(str(row[name]) for name in (self.said.key or heads[:1]) if row.get(name) is not None))[:120]
            yield Thing(f"{time_}{digest}{place}", shown or f"row {number}", at, 0, row)

    def _what(self) -> str:
        return f"The table {self.said.table}" if self.said.table else f"{self.said.path}{f', sheet {self.said.sheet},' if self.said.sheet else ''}"

    def _stamp(self) -> tuple[int, int] | None:
        if self.said.path is None:
            return None
        try:
            stat = (self._here.home / self.said.path).stat()
        except OSError:
            return None
        return stat.st_mtime_ns, stat.st_size

    def _changed_at(self) -> int:
        stamp = self._stamp()
        return stamp[0] // 1_000_000 if stamp is not None else 0

    def _table(self) -> tuple[list[str], Iterator[dict[str, Any]]]:
        """The heads of the columns, and the rows by them. Raises `IntakeFailed`."""
        if self.said.path is None:
            return self._of_database()
        path = self._here.home / str(self.said.path)
        try:
            if path.stat().st_size > self._here.largest:
                raise IntakeFailed(f"{path} is larger than {self._here.largest / 1e6:.0f} MB (setting max_bytes).")
            lines = self._opened(path)
            heads = next(lines)
        except OSError as error:
            raise IntakeFailed(f"{path} cannot be read: {error.strerror or error}.") from error
        if not heads:
            raise IntakeFailed(f"{path} has no heads: its first row names the columns.")
        return heads, lines

    def _opened(self, path: Path) -> Iterator[Any]:
        """The heads, and then the rows; the file is opened apart, and what was found in it is read line by line."""
        with tempfile.TemporaryDirectory(prefix="metrikon-") as folder:
            out = Path(folder) / "rows"
            request = {"path": str(path), "sheet": self.said.sheet, "out": str(out)}
            try:
                self._here.apart.do(rows_of_file, request, path, str(self.said.path))
            except (Refused, ReaderDied) as error:
                raise IntakeFailed(f"{path}: {error}") from error
            with out.open("rb") as lines:
                yield from map(loads, lines)

    def _of_database(self) -> tuple[list[str], Iterator[dict[str, Any]]]:
        try:
            heads, rows = table_rows(engine := self._engine(), str(self.said.table), MOST)
        except (Busy, Broken, Unusable) as error:
            raise IntakeFailed(str(error)) from error
        except FetchFailed as error:
            raise IntakeFailed(str(error), wait=error.wait) from error
        if self.said.connection is None:
            engine.dispose()
        return heads, (as_kept(dict(each)) for each in rows)

    def _engine(self) -> Engine:
        if self.said.connection is not None:
            engine: Engine = self._here.calling.database(self.said.connection)
            return engine
        path = path_of(str(self.said.url), self._here.home)
        if path is None or not path.exists():
            raise IntakeFailed(f"There is no database file {self.said.url}. Correct the flow.")
        return file_engine(path)


def rows_of_file(request: Mapping[str, Any]) -> bytes:
    """Apart: the heads of a sheet and its rows, each a line of JSON in a file of its own. Raises `IntakeFailed`."""
    path = Path(request["path"])
    cells = rows_of(path.read_bytes()) if path.suffix.lower() in (".csv", ".tsv", ".txt") else _sheet(path, request["sheet"])
    heads = _heads(next(cells, []))
    with Path(request["out"]).open("wb") as out:
        out.write(dumps(heads) + b"\n")
        for each in itertools.islice(cells, MOST):
            if row := _row(heads, each):
                out.write(dumps(row) + b"\n")
    return b""


def _sheet(path: Path, sheet: str | None) -> Iterator[list[Any]]:
    try:
        with path.open("rb") as source:
            check_extents(source, MOST_OF_ROWS)
        book = python_calamine.CalamineWorkbook.from_path(str(path))
        name = sheet or book.sheet_names[0]
        if name not in book.sheet_names:
            raise IntakeFailed(f"{path} has no sheet {name!r}. Sheets: {', '.join(book.sheet_names[:20])}. Correct the flow.")
        yield from book.get_sheet_by_name(name).iter_rows()
    except TooFar as error:
        raise IntakeFailed(f"{path} is not opened. {error}") from error
    except (python_calamine.CalamineError, zipfile.BadZipFile, etree.XMLSyntaxError, IndexError) as error:
        raise IntakeFailed(f"{path} is no sheet that can be read: {str(error)[:200]}.") from error


def _heads(cells: list[Any]) -> list[str]:
    """The heads of the columns; those without one, and those that say what another says, are told apart by their number."""
    found: list[str] = []
    for number, cell in enumerate(cells[:WIDEST], 1):
        head = " ".join(clean(str(cell)).split())[:120] if cell not in (None, "") else ""
        found.append(head if head and head not in found else f"{head or 'column'} {number}")
    while found and found[-1].startswith("column ") and cells[len(found) - 1] in (None, ""):
        found.pop()
    return found


def _row(heads: list[str], cells: list[Any]) -> dict[str, Any]:
    """A row by the heads of its columns; empty where it holds nothing."""
    values = {head: _value(cell) for head, cell in zip(heads, cells, strict=False)}
    return {head: values.get(head) for head in heads} if any(value is not None for value in values.values()) else {}


def _value(cell: Any) -> Any:
    """A cell as JSON: numbers exact, dates and times as ISO 8601 has them."""
    if cell is None or cell == "":
        return None
    if isinstance(cell, bool):
        return cell
    if isinstance(cell, float):
        return int(cell) if cell.is_integer() and abs(cell) < 10**15 else Decimal(repr(cell))
    if isinstance(cell, datetime):
        return cell.date().isoformat() if cell.time() == time() else cell.isoformat(timespec="seconds")
    if isinstance(cell, date | time):
        return cell.isoformat()
    if isinstance(cell, timedelta):
        return str(cell)
    return cell if isinstance(cell, int) else clean(str(cell)).strip() or None


def touched_by(said: Rows, home: Path) -> Touched | None:
    """The file, or the server of the database."""
    return Touched(home / said.path) if said.path is not None else touched(said.url, home)


def _tell(said: Rows) -> str:
    what = {"new": "new rows", "changed": "new and changed rows", "all": "rows"}[said.which]
    table = f"the table {said.table} of {said.connection or 'a database'}"
    return f"{what} of {table if said.table else said.path}"


def _place(said: Rows, home: Path) -> str:
    return f"the table {said.table}" if said.table else str(home / str(said.path))


KIND = IntakeKind("rows", Rows, _tell, _place, RowSource, touched_by, gives="The row, by the heads of its columns.")
