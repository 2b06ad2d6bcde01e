"""Sheets opened apart: the file of a sheet is a stranger's, so that whatever looks into it or writes it anew does so in a process of its own.

What is done to rows stands in `sheets`; it works there on a file that is handed over, and what it saves is put in place here.
"""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import msgspec

from metrikon.core.flows.mapping import Head
from metrikon.core.values.exact import dumps, loads
from metrikon.core.values.found import found_in
from metrikon.destinations.files import Copy, FilePlace
from metrikon.destinations.ordering import SortBy
from metrikon.destinations.sheets import SheetDestination, SheetForm, SheetFormat
from metrikon.ports.apart import Apart, Work
from metrikon.ports.destination import Busy, Can, Change, Receipt, Row, Unusable, Usual
from metrikon.ports.reader import Refused
from metrikon.ports.step import ReaderDied


class ApartSheet(Usual):
    """A sheet whose file is opened apart. `work`: that of its form; `said`: what it is built with there."""

    can: Can = "finds"
    gather = 0.25
    rest = 2.0
    grows = True

    def __init__(self, place: FilePlace, apart: Apart, work: Work, said: SheetForm, beside: Path | None = None) -> None:
        self._place, self._apart, self._work = place, apart, work
        self._said: Mapping[str, Any] = {**said.model_dump(mode="json"), "beside": str(beside) if beside is not None else None}

    def write(self, rows: Sequence[Row]) -> list[Receipt]:
        with self._place.copied() as copy, tempfile.TemporaryDirectory(prefix="metrikon-") as folder:
            out = Path(folder) / "out"
            answer = self._do(copy, {"write": rows, "out": str(out)})
            if out.exists():
                self._place.put(lambda aside: _moved(out, aside), copy)
        return msgspec.convert(answer, list[Receipt])

    def find(self, where: Mapping[str, Any], most: int) -> Iterator[Mapping[str, Any]]:
        with self._place.copied() as copy:
            answer = self._do(copy, {"find": where, "most": most})
        yield from answer

    def heads(self) -> Sequence[Head] | None:
        with self._place.copied() as copy:
            answer = self._do(copy, {"heads": True}) if copy.path is not None else None
        return [Head(name) for name in answer] if answer is not None else None

    def _do(self, copy: Copy, request: Mapping[str, Any]) -> Any:
        given = {"path": str(copy.path) if copy.path is not None else None, "name": self._place.name, "said": self._said, **request}
        try:
            return loads(self._apart.do(self._work, given, copy.path, self._place.name))
        except Refused as error:
            raise Unusable(error.reason) from error
        except ReaderDied as error:
            raise Busy(f"{self._place.name}: {error}") from error
        except OSError as error:  # where it is worked on here, and no process tells it in its words
            raise Busy(f"{self._place.name} cannot be saved: {error.strerror or error}.") from error


class ApartKeysBeside(ApartSheet):
    """One whose keys stand in a file beside it."""

    changes: frozenset[Change] = frozenset(
        {"set"}
    )  # the file beside tells rows by their marks: one that goes, or has another key, would leave its mark behind

    def __init__(self, place: FilePlace, apart: Apart, work: Work, said: SheetForm, beside: Path, settle: Callable[[Sequence[str]], None]) -> None:
        super().__init__(place, apart, work, said, beside)
        self._settle = settle

    def write(self, rows: Sequence[Row]) -> list[Receipt]:
        receipts = super().write(rows)
        self._settle([each.key for each in receipts])
        return receipts


class Handed:
    """A file that was handed over, and where it is saved."""

    def __init__(self, path: str | None, name: str, out: str | None) -> None:
        self.name = name
        self._path = Path(path) if path is not None else None
        self._out = Path(out) if out is not None else None

    @contextmanager
    def copied(self) -> Iterator[Copy]:
        """The file itself."""
        yield Copy(self._path, None)

    def put(self, made: Callable[[Path], None], before: Copy) -> None:
        """Beside it."""
        assert self._out is not None
        made(self._out)


def handed(request: Mapping[str, Any]) -> Handed:
    """The file of a request."""
    return Handed(request["path"], str(request["name"]), request.get("out"))


def done(request: Mapping[str, Any], form: SheetFormat) -> bytes:
    """What a request wants of a sheet: rows written, found, or its heads."""
    said = request["said"]
    by = msgspec.convert(said["sorted_by"], list[dict[str, Any]])
    sheet = SheetDestination(
        handed(request), form, str(said.get("sheet") or ""), said["key"], [SortBy(**each) for each in by], refuse=said["cannot_hold"] == "refuse"
    )
    return answered(request, sheet)


def answered(request: Mapping[str, Any], sheet: SheetDestination) -> bytes:
    """The same of a sheet that is built already."""
    if "write" in request:
        return dumps([_told(each) for each in sheet.write(msgspec.convert(request["write"], list[Row]))])
    if "find" in request:
        return dumps(list(sheet.find(request["find"], int(request["most"]))))
    heads = sheet.heads()
    return dumps([each.name for each in heads] if heads is not None else None)


def _told(receipt: Receipt) -> dict[str, Any]:
    """A receipt as it crosses over: what cells hold as flows know it."""
    return {name: _plain(value) for name, value in vars(receipt).items()}


def _plain(value: Any) -> Any:
    if isinstance(value, Mapping):
        return {name: found_in(each) for name, each in value.items()}
    return value


def _moved(made: Path, aside: Path) -> None:
    """What was saved, in place of another file; the folders may lie on two disks."""
    shutil.copyfile(made, aside)
