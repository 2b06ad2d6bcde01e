"""Lists of known values: CSV files (or text, one value a line) in the folder `lists` of the service."""

from __future__ import annotations

import csv
import io
import os
import re
from functools import lru_cache
from pathlib import Path

from metrikon.core.records.lists import KnownList

LARGEST = 20_000_000  # bytes
WIDEST = 200  # columns
LONGEST = 10_000  # characters of a value
NAME = re.compile(r"[a-z0-9][a-z0-9_-]{0,59}")


class BadList(ValueError):
    """A list that cannot be kept; the message says why."""


class FolderOfLists:
    """The lists of a service. A file that a person changes is read anew."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def get(self, name: str) -> KnownList | None:
        """A list by its name; None when there is none."""
        place = self._place(name)
        return _read(place, name, place.stat().st_mtime_ns) if place is not None else None

    def text(self, name: str) -> str | None:
        """A list as CSV; None when there is none."""
        known = self.get(name)
        if known is None:
            return None
        out = io.StringIO()
        csv.writer(out, lineterminator="\n").writerows(known.rows)
        return out.getvalue()

    def names(self) -> list[str]:
        """The names of all lists, in order."""
        found = {path.stem for path in self._folder.glob("*.*") if path.suffix in (".txt", ".csv")} if self._folder.is_dir() else set()
        return sorted(name for name in found if self._place(name) is not None)

    def heads(self) -> dict[str, tuple[str, ...]]:
        """The heads of the columns of every list; of a list of plain values, "value"."""
        every = {name: self.get(name) for name in self.names()}
        return {name: known.heads or ("value",) for name, known in every.items() if known is not None}

    def put(self, name: str, text: str) -> KnownList:
        """Keep a list (CSV) in the place of the one before. Raises `BadList`."""
        if not NAME.fullmatch(name):
            raise BadList(f"{name!r} is no name for a list: small letters, figures, - and _ are taken, at most 60.")
        if len(text.encode()) > LARGEST:
            raise BadList(f"The list has {len(text) / 1e6:.1f} MB; at most {LARGEST / 1e6:.0f} MB are kept.")
        try:
            rows = _rows(text)
        except csv.Error as error:
            raise BadList(f"The list is no CSV: {error}.") from error
        longest = max((len(cell) for row in rows for cell in row), default=0)
        if longest > LONGEST:
            raise BadList(f"The list holds a value of {longest} characters; at most {LONGEST} are kept. Is a quotation mark left open?")
        made = KnownList(name, rows)
        if not made.rows:
            raise BadList("The list holds no values: one a line, in the first column.")
        self._folder.mkdir(parents=True, exist_ok=True)
        aside = self._folder / f".new-{name}"
        out = io.StringIO()
        csv.writer(out, lineterminator="\n").writerows(made.rows)
        aside.write_text(out.getvalue(), "utf-8")
        os.replace(aside, self._folder / f"{name}.csv")
        (self._folder / f"{name}.txt").unlink(missing_ok=True)
        return made

    def _place(self, name: str) -> Path | None:
        if not NAME.fullmatch(name):
            return None
        places = (self._folder / f"{name}.txt", self._folder / f"{name}.csv")
        return next((place for place in places if place.is_file() and place.stat().st_size <= LARGEST), None)


@lru_cache(maxsize=32)
def _read(place: Path, name: str, changed: int) -> KnownList:
    text = place.read_text("utf-8-sig", "replace")
    return KnownList(name, _rows(text) if place.suffix == ".csv" else [[line] for line in text.splitlines()])


def _rows(text: str) -> list[list[str]]:
    """The rows of a CSV (RFC 4180), parted by commas, semicolons or tabs, as its first line shows."""
    first = text.removeprefix("\ufeff").split("\n", 1)[0]
    mark = max(",;\t", key=first.count)
    return [row[:WIDEST] for row in csv.reader(io.StringIO(text.removeprefix("\ufeff")), delimiter=mark)]
