"""Rows of a sheet, whatever form its file has: what is there is looked up by its key, new rows are added below, the rest is left as it stands."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Protocol

from pydantic import Field, model_validator

from metrikon.core.flows.form import ConnectionName, Form
from metrikon.core.flows.keys import MARK, key_of
from metrikon.core.values.found import found_in
from metrikon.destinations.cells import as_moment, cell_value, longer_than_a_cell, same, without_controls
from metrikon.destinations.files import Copy, FilePlace, LocalFile, RemoteFile
from metrikon.destinations.former import Former
from metrikon.destinations.ordering import FIRST, SortBy, in_order
from metrikon.destinations.places import absolute, from_home
from metrikon.ports.destination import KEY_COLUMN, Broken, Busy, Can, Head, Named, Receipt, Row, There, Unusable, Usual, gone
from metrikon.ports.touching import Touched


@dataclass(frozen=True)
class Held:
    """What a sheet holds: the heads of its columns, the number of its last row (that of the heads is 1, of an empty sheet 0), and each key with the numbers of its rows.

    `keys` are those of our own column, or of the columns that tell rows apart.
    """

    heads: Sequence[str] = ()
    last: int = 0
    keys: Mapping[str, int] = field(default_factory=dict)
    seen: Any = None  # what the format has seen besides


@dataclass
class Changes:
    """What is to be changed: heads that are added, rows that are added (key and cells by head), cells of rows that are there, and the order of all rows."""

    heads: list[str] = field(default_factory=list)
    rows: list[tuple[str, dict[str, Any]]] = field(default_factory=list)
    cells: dict[int, dict[str, Any]] = field(default_factory=dict)
    removed: set[int] = field(default_factory=set)  # rows that are taken away: their cells are emptied
    order: list[int] | None = None  # the numbers of all rows beneath the heads, those that are added too, in the order that they are to stand in

    def __bool__(self) -> bool:
        return bool(self.rows or self.cells)


@dataclass(frozen=True)
class _Sheet:
    """A sheet while rows of a batch are gone through: what it holds, what is to be changed, where each key stands, and what stands in rows that matter."""

    held: Held
    changes: Changes
    keys: dict[str, int]
    former: Former[int]
    known: Mapping[int, Mapping[str, Any]]

    @property
    def first_new(self) -> int:
        """The number of the first row that is added."""
        return max(self.held.last, 1) + 1


class SheetFormat(Protocol):
    """How a sheet is read and written in one form of file. All of it may raise `Broken`."""

    most: int  # rows that a sheet can have

    def held(self, path: Path, key: Sequence[str]) -> Held:
        """What is there. `key`: the columns by which rows are told apart; without any by our own column."""
        ...

    def rows(self, path: Path) -> Iterator[tuple[int, dict[str, Any]]]:
        """The rows in their order, by the heads of their columns, each with its number; our own column included."""
        ...

    def save(self, path: Path | None, out: Path, held: Held, changes: Changes, *, ours: bool) -> None:
        """Write the file anew with the changes; all else in it stays as it was. `ours`: whether our own column is kept."""
        ...


class SheetForm(Form):
    """What is common to sheets of all forms."""

    path: str = Field(
        ..., min_length=1, max_length=1000, description="The file; relative paths start at the service's folder, or at the address of the connection."
    )
    connection: ConnectionName | None = Field(
        None, description="Name of a connection to a server (WebDAV) that holds the file; left out for a file here."
    )
    key: list[str] = Field(
        default_factory=list,
        max_length=20,
        description="Columns of the sheet's own that tell a row from others, such as the number of an order; without any a column of ours holds the key.",
    )
    sorted_by: list[SortBy] = Field(
        default_factory=list,
        max_length=5,
        description="Keep all rows of the sheet sorted by these columns, the first before the second; left out, new rows stand below the others.",
    )
    cannot_hold: str = Field(
        "clean", pattern="^(clean|refuse)$", description="Signs that a cell cannot hold, and text that is too long: left out, or the row is refused."
    )

    @model_validator(mode="after")
    def _of_its_kind(self) -> SheetForm:
        ending = type(self).ENDING  # type: ignore[attr-defined]
        if not self.path.lower().endswith(ending):
            raise ValueError(f"The name of the file ends with {ending}.")
        return self


class SheetDestination(Usual):
    """Writes rows of a sheet. Each carries its delivery key in a hidden last column, or is told from others by columns of its own."""

    can: Can = "finds"
    gather = 0.25
    rest = 2.0
    grows = True

    def __init__(
        self, place: FilePlace, format: SheetFormat, sheet: str = "", key: Sequence[str] = (), by: Sequence[SortBy] = (), *, refuse: bool = False
    ) -> None:
        self._place, self._format, self._sheet, self._own, self._by, self._refuse = place, format, sheet, tuple(key), tuple(by), refuse

    def write(self, rows: Sequence[Row]) -> list[Receipt]:
        with self._place.copied() as copy:
            held = self._format.held(copy.path, self._own) if copy.path is not None else Held()
            self._must_have_key(held, copy)
            self._must_have_columns(rows, held)
            changes, receipts = self._changes(rows, held, copy)
            if changes:
                receipts = self._sort(changes, receipts, held, copy)
                if held.last + len(changes.rows) > self._format.most:
                    raise Broken(f"{self._what()} is full ({self._format.most:,} rows). Name a new one in the flow.")
                path = copy.path
                self._place.put(lambda out: self._format.save(path, out, held, changes, ours=not self._own), copy)
        return receipts

    def find(self, where: Mapping[str, Any], most: int) -> Iterator[Mapping[str, Any]]:
        with self._place.copied() as copy:
            count = 0
            for _, row in self._format.rows(copy.path) if copy.path is not None else ():
                row.pop(KEY_COLUMN, None)
                if any(value is not None for value in row.values()) and all(same(_named(row, column), value) for column, value in where.items()):
                    count += 1
                    if count > most:
                        raise Broken(f"{self._what()} holds more than {most} rows like these. Say more in `where`.")
                    yield row

    def heads(self) -> Sequence[Head] | None:
        with self._place.copied() as copy:
            if copy.path is None:
                return None
            held = self._format.held(copy.path, self._own)
        return [Head(head) for head in held.heads if head and head != KEY_COLUMN] or None

    def _what(self) -> str:
        return f"The sheet {self._sheet} of {self._place.name}" if self._sheet else self._place.name

    def _must_have_key(self, held: Held, copy: Copy) -> None:
        missing = [each for each in self._own if _column(held.heads, each) is None]
        if missing and any(held.heads):  # a sheet without heads is made with those of its first rows
            raise Unusable(
                f"{self._what()} has no column {', '.join(missing)}, which tells its rows apart. Its columns: {', '.join(filter(None, held.heads)) or 'none'}."
            )

    def _must_have_columns(self, rows: Sequence[Row], held: Held) -> None:
        """Raises `Unusable` where a column that was written before is gone."""
        if held.last < 1:
            return
        for row in rows:
            for name in row.columns_before:
                if name in row.values and _column(held.heads, name) is None:
                    raise gone(name, self._what(), held.heads)

    def _changes(self, rows: Sequence[Row], held: Held, copy: Copy) -> tuple[Changes, list[Receipt]]:
        changes, keys = Changes(), dict(held.keys)
        former = Former(((key, at) for key, at in keys.items() if not key.startswith(MARK)), self._sheet)
        sheet = _Sheet(held, changes, keys, former, self._known(rows, keys, former, copy))
        receipts = [self._change(row, sheet) for row in rows]
        changes.cells = {at: cells for at, cells in changes.cells.items() if cells}
        return changes, receipts

    def _change(self, row: Row, sheet: _Sheet) -> Receipt:
        """One row written, set, moved or removed, as far as it is there."""
        key = self._key(row)
        at = sheet.keys.get(key) or (sheet.former.find(row, lambda at: sheet.known.get(at, {}).values()) if not self._own else None)
        if row.removes:
            return self._remove(row, key, at, sheet)
        if at is None and row.moves is not None:
            return self._move(row, key, sheet)
        if at is None:
            return self._add(row, key, sheet)
        values = self._cells(row)
        if at > sheet.first_new - 1:  # one of those that are added now
            new = sheet.changes.rows[at - sheet.first_new][1]
            there = {} if row.sets else _otherwise(new, values)
            new.update({self._head(sheet, name): value for name, value in values.items()} if row.sets else {})
            return Receipt(row.key, "updated" if row.sets else "there already", self._at(at), there=there)
        known = sheet.known.get(at, {})
        if not row.sets:
            there = _otherwise(known, values) if at > 0 else {}  # where only the key is known, nothing can be compared
            if row.moves is not None and not there and self._key(row.moves) not in sheet.keys:
                return Receipt(row.key, "updated", self._at(at))  # it was moved before, and that was not noted
            return Receipt(row.key, "there already", self._at(at), there=there, ours=not self._own)
        return self._set(row, at, values, known, sheet)

    def _add(self, row: Row, key: str, sheet: _Sheet) -> Receipt:
        if row.only:
            return Receipt(row.key, "not there")
        at = sheet.first_new + len(sheet.changes.rows)
        sheet.keys[key] = at
        sheet.changes.rows.append((row.key, {self._head(sheet, name): value for name, value in self._cells(row).items()}))
        return Receipt(row.key, "written", self._at(at))

    def _set(self, row: Row, at: int, values: Mapping[str, Any], known: Mapping[str, Any], sheet: _Sheet) -> Receipt:
        left = _set_since(row, known, values)
        if row.whole and left:
            return Receipt(row.key, "left", self._at(at), there={name: _named(known, name) for name in left})
        told = {self._head(sheet, name): value for name, value in values.items() if name not in left}
        sheet.changes.cells[at] = {**sheet.changes.cells.get(at, {}), **told}
        before = {name: _named(known, name) for name in values if name not in left}
        return Receipt(row.key, "updated", self._at(at), left, {name: _named(known, name) for name in left}, before)

    def _move(self, row: Row, key: str, sheet: _Sheet) -> Receipt:
        """A row that is there gets another key and other values; one that is there no longer is written."""
        assert row.moves is not None
        old = self._key(row.moves)
        at = sheet.keys.get(old)
        if at is None or at > sheet.first_new - 1:
            return self._add(row, key, sheet)
        receipt = self._set(row, at, self._cells(row), sheet.known.get(at, {}), sheet)
        if receipt.result == "left":
            return receipt
        sheet.keys[key] = sheet.keys.pop(old)
        if not self._own:
            sheet.changes.cells[at][KEY_COLUMN] = row.key
        return receipt

    def _remove(self, row: Row, key: str, at: int | None, sheet: _Sheet) -> Receipt:
        """A row is taken away, unless somebody has set something in it since."""
        if at is None or at < 0:
            return Receipt(row.key, "removed")
        known = sheet.known.get(at, {})
        there = _otherwise(known, row.values)
        others = [name for name, value in known.items() if name != KEY_COLUMN and value not in (None, "") and _column(list(row.values), name) is None]
        there |= {name: known[name] for name in others}
        if there:
            return Receipt(row.key, "left", self._at(at), there=there)
        sheet.keys.pop(key, None)
        sheet.changes.cells[at] = {head: None for head in sheet.held.heads if head}
        sheet.changes.removed.add(at)
        return Receipt(row.key, "removed", self._at(at))

    def _sort(self, changes: Changes, receipts: list[Receipt], held: Held, copy: Copy) -> list[Receipt]:
        """Set the order that all rows are to stand in; the receipts, with the places that rows are at then."""
        if not self._by:
            return receipts
        heads = [_column([*held.heads, *changes.heads], each.column) for each in self._by]
        for head, each in zip(heads, self._by, strict=True):
            if head is None:
                told = ", ".join(filter(None, [*held.heads, *changes.heads])) or "none"
                raise Unusable(f"{self._what()} has no column {each.column} that its rows could be sorted by. Its columns: {told}.")
        first = max(held.last, 1) + 1
        rows: dict[int, tuple[Any, ...]] = {}
        for at, row in self._format.rows(copy.path) if copy.path is not None else ():
            if any(value is not None for value in row.values()) or at in changes.cells:
                now = {**row, **changes.cells.get(at, {})}
                rows[at] = tuple(_as_found(now.get(head)) for head in heads if head is not None)
        for at, (_, cells) in enumerate(changes.rows, first):
            rows[at] = tuple(_as_found(cells.get(head)) for head in heads if head is not None)
        changes.order = in_order(self._by, rows, first - 1 + len(changes.rows))
        if changes.order is None:
            return receipts
        now_at = {self._at(before): self._at(now) for now, before in enumerate(changes.order, FIRST)}
        return [replace(each, place=now_at.get(each.place, each.place)) for each in receipts]

    def _known(self, rows: Sequence[Row], keys: Mapping[str, int], former: Former[int], copy: Copy) -> dict[int, dict[str, Any]]:
        """What stands in the rows that are there, where that is needed: to see what a person has set, or whether an earlier version has written them."""
        wanted = {keys[key] for row in rows for key in self._keys(row) if key in keys}
        every = bool(former) and any(self._key(row) not in keys for row in rows)
        if copy.path is None or not (wanted or every):
            return {}
        return {at: row for at, row in self._format.rows(copy.path) if every or at in wanted}

    def _keys(self, row: Row) -> list[str]:
        """The key of a row, and that which it has had."""
        return [self._key(row), *([self._key(row.moves)] if row.moves is not None else [])]

    def _key(self, row: Row) -> str:
        if not self._own:
            return row.key
        parts = [next((value for name, value in row.values.items() if name.casefold() == each.casefold()), None) for each in self._own]
        if any(part is None for part in parts):
            raise Broken(
                f"The row has no value for {', '.join(self._own)}, by which {self._what()} tells rows apart. Map the column, or correct `key`."
            )
        return own_key([_as_found(part) for part in parts])

    def _cells(self, row: Row) -> dict[str, Any]:
        """The values of a row as cells hold them."""
        if self._refuse:
            for name, value in row.values.items():
                if isinstance(value, str) and (without_controls(value) != value or longer_than_a_cell(value)):
                    raise Broken(
                        f"The column {name} cannot hold {value[:40]!r} …: control characters, or more than a cell holds. Correct the value, or have such signs left out."
                    )
        return {name: cell_value(value) for name, value in row.values.items()}

    def _head(self, sheet: _Sheet, name: str) -> str:
        """The head of a column that is meant by a name: as it is spelt there, or a new one."""
        found = _column([*sheet.held.heads, *sheet.changes.heads], name)
        if found is None:
            sheet.changes.heads.append(name)
            return name
        return found

    def _at(self, row: int) -> str:
        return f"{self._place.name}, row {row}"


def own_key(parts: Sequence[Any]) -> str:
    """The key of a row by columns of its own: numbers are the same whatever their zeros, texts without the blanks around them."""
    return key_of([_as_told(part) for part in parts])


def _as_told(part: Any) -> Any:
    """A part of a key as it is told from others: a date with a time by what a cell keeps of it."""
    if not isinstance(part, str):
        return part
    moment = as_moment(part.strip())
    return part.strip() if moment is None else moment.replace(tzinfo=None).isoformat()


def _as_found(value: Any) -> Any:
    return found_in(cell_value(value))


def _column(heads: Sequence[str], name: str) -> str | None:
    if name in heads:
        return name
    alike = [head for head in heads if head.strip().casefold() == name.strip().casefold()]
    return alike[0] if len(alike) == 1 else None


def _named(row: Mapping[str, Any], name: str) -> Any:
    head = _column(list(row), name)
    return row[head] if head is not None else None


def _set_since(row: Row, known: Mapping[str, Any], values: Mapping[str, Any]) -> list[str]:
    """Columns of a row that hold something else than was written into them last: a person has set them."""
    if row.was is None or row.over:
        return []
    return [name for name in values if not any(same(_named(known, name), _as_found(each)) for each in (row.was.get(name), row.values[name]))]


def _otherwise(known: Mapping[str, Any], values: Mapping[str, Any]) -> dict[str, Any]:
    """Columns that hold something else than these values, with what they hold; an empty cell is nothing."""
    found = {}
    for name, value in values.items():
        there = _named(known, name)
        if not same(there if there != "" else None, None if value in (None, "") else _as_found(value)):
            found[name] = there
    return found


def file_of(said: SheetForm, there: There) -> FilePlace:
    """Where the file of a sheet is."""
    if said.connection is not None:
        return RemoteFile(there.calling, said.connection, said.path)
    return LocalFile(absolute(said.path, there.home))


def place_of(kind: str, said: SheetForm, there: There, sheet: str = "") -> str:
    """How the place of a sheet is named."""
    if said.connection is not None:
        return f"{kind}:{there.calling.connections.at(said.connection, said.path)}#{sheet}"
    return f"{kind}:{from_home(absolute(said.path, there.home), there.home)}#{sheet}"


def former_place_of(kind: str, said: SheetForm, there: There, sheet: str = "") -> str:
    """How an earlier version named it."""
    return f"{kind}:{absolute(said.path, there.home)}#{sheet}" if said.connection is None else place_of(kind, said, there, sheet)


def touched_by(said: SheetForm, home: Path) -> Touched | None:
    """The file of this machine that is written."""
    return Touched(absolute(said.path, home)) if said.connection is None else None


def columns_of(said: SheetForm) -> list[Named]:
    """The columns that tell rows apart, which must be there, and those that they are sorted by."""
    keys = [Named(("key", at), each) for at, each in enumerate(said.key)]
    return [*keys, *(Named(("sorted_by", at, "column"), each.column, may_come=True) for at, each in enumerate(said.sorted_by))]


__all__ = [
    "Busy",
    "Changes",
    "Held",
    "SheetDestination",
    "SheetForm",
    "SheetFormat",
    "columns_of",
    "file_of",
    "former_place_of",
    "own_key",
    "place_of",
    "touched_by",
]
