"""A file of text in columns (CSV). What is there stays letter by letter; rows are added below."""

from __future__ import annotations

import csv
import hashlib
import io
import json
import os
import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import replace
from datetime import date, datetime
from decimal import Decimal
from functools import cache
from pathlib import Path
from typing import Any, ClassVar, Literal

from pydantic import Field, model_validator

from metrikon.core.values.delimited import Form, form_of, text_of
from metrikon.destinations.cells import Link, digits
from metrikon.destinations.ordering import FIRST
from metrikon.destinations.places import absolute
from metrikon.destinations.sheet_apart import ApartKeysBeside, ApartSheet, done
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
from metrikon.ports.destination import KEY_COLUMN, Broken, DestinationKind, There, Unusable

_SIGN = (
    r"(?:[=@\uff1d\uff20]|[+\-\uff0b\uff0d](?![\d\s().,/-]*%?$))"  # with which spreadsheets begin a formula; full-width ones are read as the others
)
_LIVE = re.compile(rf"'*(?:[\t\r\n]|{_SIGN})")  # at the beginning of a cell
_NUMBER = re.compile(r"-?\d{1,15}(\.\d{1,15})?")


@cache
def _within(mark: str, quoted: str = "") -> re.Pattern[str]:
    """Where the separator of another locale would make a cell of its own of what begins as a formula; `quoted`: as we write it."""
    others = "".join(each for each in ";,|\t" if each != mark) + "\r\n"
    return re.compile(rf"([{others}]\s*\"?){quoted}('*)(?={_SIGN})")


class CsvFile(SheetForm):
    """A file of text in columns (CSV)."""

    called = ("text", "tsv")

    ENDING: ClassVar[str] = ".csv"
    key_in: Literal["column", "side file"] = Field(
        "column",
        description="Where the delivery key of a row stands, without a `key` of its own: in a last column delivery_key, or in a file beside it (.keys), for a "
        "file here whose columns are fixed.",
    )

    @model_validator(mode="after")
    def _beside(self) -> CsvFile:
        if self.key_in == "side file" and (self.connection is not None or self.key):
            raise ValueError("A side file stands beside a file of this machine that has no `key` of its own.")
        return self


class CsvFormat:
    """Text in columns."""

    most = 50_000_000

    def __init__(self, *, refuse: bool = False) -> None:
        self._errors = "strict" if refuse else "replace"

    def held(self, path: Path, key: Sequence[str]) -> Held:
        heads: list[str] = []
        keys: dict[str, int] = {}
        last = 0
        for number, cells in _numbered(path):
            if number == 1:
                heads = [each.strip() for each in cells]
                names = [next((at for at, head in enumerate(heads) if head.casefold() == each.casefold()), -1) for each in key or (KEY_COLUMN,)]
                last = 1
                continue
            last = number
            parts = [_found(cells[at]) if 0 <= at < len(cells) else None for at in names]
            if all(part is not None for part in parts):
                keys.setdefault(own_key(parts) if key else str(parts[0]), number)
        return Held(heads, last, keys)

    def rows(self, path: Path) -> Iterator[tuple[int, dict[str, Any]]]:
        heads: list[str] = []
        for number, cells in _numbered(path):
            if number == 1:
                heads = [each.strip() for each in cells]
            else:
                yield number, {head: _found(cell) for head, cell in zip(heads, [*cells, *[""] * len(heads)], strict=False) if head}

    def save(self, path: Path | None, out: Path, held: Held, changes: Changes, *, ours: bool) -> None:
        data = path.read_bytes() if path is not None else b""
        form = form_of(data) if data else Form(bom=True)  # without the mark office programs take it for another encoding
        heads = [*held.heads, *changes.heads]
        heads += [KEY_COLUMN] if ours and KEY_COLUMN not in heads else []
        encoding = "utf-8-sig" if form.bom else form.encoding
        with _in_its_signs(encoding), out.open("w", encoding=encoding, newline="", errors=self._errors) as target:
            writer = csv.writer(target, delimiter=form.mark, lineterminator=form.end)
            if heads == list(held.heads) and not changes.cells and data:
                target.write(_ended(text_of(data, form), form.end))
            else:
                self._rewrite(target, writer, data, form, held, heads, changes)
            for key, cells in changes.rows:
                told = {**cells, **({KEY_COLUMN: key} if ours else {})}
                writer.writerow([_shown(told.get(head), form.mark) for head in heads])
        if changes.order is not None:
            _sort(out, changes.order)

    def _rewrite(self, target: Any, writer: Any, data: bytes, form: Form, held: Held, heads: list[str], changes: Changes) -> None:
        """Write what is there, with what is changed: rows that are not are written letter by letter, with empty cells under new heads."""
        if not data:
            writer.writerow(heads)
            return
        more = form.mark * (len(heads) - len(held.heads))
        for number, (cells, told) in enumerate(_with_text(data, form), 1):
            if number == 1:
                writer.writerow(heads) if more else target.write(_ended(told, form.end))
            elif number in changes.removed and changes.order is None:
                continue
            elif number in changes.cells:
                known = [*cells, *[""] * (len(heads) - len(cells))]
                for head, value in changes.cells[number].items():
                    known[heads.index(head)] = _shown(value, form.mark)
                writer.writerow(known)
            else:
                bare = told.rstrip("\r\n")
                target.write(f"{bare}{more if cells else ''}{form.end}")


class SideFile(CsvFormat):
    """Keys in a file beside: each with the marks of its row, so that rows may be put into another order. Written before the rows, and settled after them."""

    def __init__(self, beside: Path, *, refuse: bool = False) -> None:
        super().__init__(refuse=refuse)
        self._beside = beside

    def held(self, path: Path, key: Sequence[str]) -> Held:
        held = super().held(path, ())
        marks: dict[str, list[int]] = {}
        for number, row in self.rows(path):
            marks.setdefault(_mark(row), []).append(number)
        keys: dict[str, int] = {}
        for told, (mark, settled) in sorted(self._kept().items(), key=lambda each: not each[1][1]):  # of equal rows those that are settled are there
            alike = marks.get(mark)
            if alike or settled:
                keys[told] = alike.pop(0) if alike else -1  # written, and since then changed or removed by a person
        return Held(held.heads, held.last, keys, keys)

    def save(self, path: Path | None, out: Path, held: Held, changes: Changes, *, ours: bool) -> None:
        gone = {at for at in changes.cells if at < 0}
        cells = {at: each for at, each in changes.cells.items() if at not in gone}
        super().save(path, out, held, replace(changes, cells=cells), ours=False)
        by_number = {number: key for key, number in (held.seen or {}).items()}
        rows = dict(super().rows(out))
        now = {before: now for now, before in enumerate(changes.order or (), FIRST)}
        first = max(held.last, 1) + 1
        marks = {key: _mark(rows[now.get(at, at)]) for at, (key, _) in enumerate(changes.rows, first)}
        marks |= {by_number[at]: _mark(rows[now.get(at, at)]) for at in cells if at in by_number}
        self._note(marks, settled=False)

    def settle(self, keys: Sequence[str]) -> None:
        """Rows with these keys are in the file."""
        kept = self._kept()
        self._note({key: kept[key][0] for key in keys if key in kept and not kept[key][1]}, settled=True)

    def _kept(self) -> dict[str, tuple[str, bool]]:
        found: dict[str, tuple[str, bool]] = {}
        if self._beside.exists():
            for line in self._beside.read_text().splitlines():
                with suppress(ValueError, TypeError):  # the last line may have been cut off
                    key, mark, settled = json.loads(line)
                    found[str(key)] = (str(mark), bool(settled))
        return found

    def _note(self, marks: dict[str, str], *, settled: bool) -> None:
        if not marks:
            return
        handle = os.open(self._beside, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o600)
        with os.fdopen(handle, "a") as out:
            out.write("\n" + "\n".join(json.dumps([key, mark, settled]) for key, mark in marks.items()) + "\n")
            out.flush()
            os.fsync(out.fileno())


@contextmanager
def _in_its_signs(encoding: str) -> Iterator[None]:
    try:
        yield
    except UnicodeEncodeError as error:
        sign = error.object[error.start : error.start + 1]
        raise Broken(f"The file is written as {encoding}, which has no {sign!r}. Correct the value, or have such signs put as ?.") from error


def _numbered(path: Path) -> Iterator[tuple[int, list[str]]]:
    try:
        data = path.read_bytes()
        form = form_of(data)
        ours = _within(form.mark, "'")
        for number, cells in enumerate(csv.reader(io.StringIO(text_of(data, form), newline=""), delimiter=form.mark), 1):
            yield number, [ours.sub(r"\1\2", cell) for cell in cells]
    except csv.Error as error:
        raise Unusable(f"{path.name} is no text in columns that can be read ({error}). Move it away or repair it, then continue.") from error


def _with_text(data: bytes, form: Form) -> Iterator[tuple[list[str], str]]:
    """Each row with its own text, the end of its last line included."""
    taken: list[str] = []

    def lines() -> Iterator[str]:
        for line in io.StringIO(text_of(data, form), newline=""):
            taken.append(line)
            yield line

    for cells in csv.reader(lines(), delimiter=form.mark):
        yield cells, "".join(taken)
        taken.clear()


def _sort(path: Path, order: Sequence[int]) -> None:
    """The rows beneath the heads in another order, each letter by letter."""
    data = path.read_bytes()
    form = form_of(data)
    rows = [text for _, text in _with_text(data, form)]
    with path.open("w", encoding="utf-8-sig" if form.bom else form.encoding, newline="") as target:
        target.writelines(_ended(rows[before - 1], form.end) for before in (1, *order))


def _ended(text: str, end: str) -> str:
    return text if not text or text.endswith(("\n", "\r")) else text + end


def _mark(row: dict[str, Any]) -> str:
    told = json.dumps([str(value) for value in row.values() if value is not None])
    return hashlib.sha256(told.encode()).hexdigest()[:32]


def _shown(value: Any, mark: str) -> str:
    """A value as it stands in the text, whose cells are parted by a mark. One that a spreadsheet would take for a formula begins with an apostrophe."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int | Decimal):
        return digits(value)
    if isinstance(value, datetime | date):
        return value.isoformat()
    told = _within(mark).sub(r"\1'\2", str(value.place if isinstance(value, Link) else value))
    return f"'{told}" if _LIVE.match(told) else told


def _found(cell: str) -> Any:
    """A cell as a value: numbers and yes/no as we write them, all else as text."""
    if cell == "":
        return None
    if _NUMBER.fullmatch(cell) and (len(cell.lstrip("-")) < 2 or cell.lstrip("-")[0] != "0" or cell.lstrip("-")[1] == "."):
        return Decimal(cell) if "." in cell else int(cell)
    if cell in ("true", "false"):
        return cell == "true"
    return cell[1:] if cell.startswith("'") and _LIVE.match(cell[1:]) else cell


def work(request: Mapping[str, Any]) -> bytes:
    """Apart: rows of the file written, found, or its heads."""
    said = request["said"]
    refuse = said["cannot_hold"] == "refuse"
    return done(request, SideFile(Path(said["beside"]), refuse=refuse) if said["beside"] else CsvFormat(refuse=refuse))


def _build(said: CsvFile, there: There) -> ApartSheet:
    if said.key_in == "column":
        return ApartSheet(file_of(said, there), there.apart, work, said)
    path = absolute(said.path, there.home)
    beside = path.with_name(f".{path.name}.keys")
    return ApartKeysBeside(file_of(said, there), there.apart, work, said, beside, SideFile(beside).settle)


KIND = DestinationKind(
    "csv",
    CsvFile,
    place=lambda said, there: place_of("csv", said, there),
    former_place=lambda said, there: former_place_of("csv", said, there),
    build=_build,
    tell=lambda said: f"the file {said.path}",
    touches=touched_by,
    names=columns_of,
)
