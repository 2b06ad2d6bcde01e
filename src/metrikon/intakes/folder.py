"""A watched folder: files that have settled are taken in once, then kept or moved as the flow says."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

from pydantic import Field

from metrikon.core.flows.coming import OPENED, Gathered
from metrikon.ports.intake import Here, IntakeFailed, IntakeKind, Piece, Quiet, Thing
from metrikon.ports.touching import Touched

TAKEN = "taken"  # the folder that taken files are moved to
_NOT_YET = (".part", ".partial", ".tmp", ".crdownload", ".download")
Stamp = tuple[int, int]  # when a file was changed, nanoseconds since 1970, and its bytes


class WatchedFolder(Gathered):
    """Files that appear in a folder. Taken when settled, once each."""

    called = ("directory", "dir", "path", "files", "watch")

    path: str = Field(..., min_length=1, description="The folder; relative paths start at the service's folder.")
    after: Literal["keep", "move"] = Field("keep", description="What becomes of a file that was taken: kept, or moved to `taken`.")
    settled: float = Field(1.0, ge=0, le=3600, description="Seconds a file must have stayed the same.")
    opened: bool = Field(False, description=OPENED)


@dataclass(frozen=True)
class _Held:
    """A file as it was read; without its bytes where it is too large, or could not be read for a reason."""

    stamp: Stamp
    data: bytes = b""
    why: str = ""


class Folder(Quiet):
    """One folder of one flow. It remembers which files have settled, so that none is read again for nothing; who takes them knows them by identity."""

    every = 0.1

    def __init__(self, path: Path, *, move: bool, settled: float, largest: int, opened: bool = False) -> None:
        self.path, self.move, self.settled, self.largest, self.opened = path, move, settled, largest, opened
        self._seen: dict[str, tuple[Stamp, int]] = {}
        self._given: dict[str, Stamp] = {}

    def test(self) -> str:
        self._made()
        count = sum(1 for _ in self._files())
        return f"{self.path} can be read; {count} file{'s are' if count != 1 else ' is'} there{'' if os.access(self.path, os.W_OK) else ', which cannot be moved'}."

    def there(self) -> Iterator[Thing]:
        if not self.path.is_dir():
            return
        found = [(entry.name, entry.stat(follow_symlinks=False)) for entry in self._files()]
        for name, stat in sorted(found, key=lambda each: -each[1].st_mtime_ns):
            taken = self._given.get(name) == (stat.st_mtime_ns, stat.st_size)
            yield Thing("", name, stat.st_mtime_ns // 1_000_000, stat.st_size, key=name, taken=taken)

    def new(self, cursor: object, moment: int) -> Iterator[Thing]:
        self._made()
        names = set()
        for entry in self._files():
            names.add(entry.name)
            if self._ready(entry, moment):
                thing = self._thing(Path(entry.path))
                if thing is not None:
                    yield thing
        for gone in set(self._seen) - names:
            self._seen.pop(gone, None)
            self._given.pop(gone, None)

    def one(self, thing: Thing) -> Thing:
        found = self._thing(self.path / thing.name)
        if found is None:
            raise IntakeFailed(f"{thing.name} is still growing, or gone.", gone=True)
        return found

    def get(self, thing: Thing) -> list[Piece]:
        held: _Held = thing.key
        if held.why:
            raise IntakeFailed(f"{thing.name} cannot be read: {held.why}.")
        return [Piece(thing.name, held.data, within="each" if self.opened else "")]

    def settle(self, thing: Thing, *, taken: bool) -> None:
        self._given[thing.name] = thing.key.stamp
        if self.move and taken:
            self._move(self.path / thing.name)

    def _made(self) -> None:
        try:
            self.path.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise IntakeFailed(f"The folder {self.path} cannot be made: {error.strerror}.") from error

    def _files(self) -> list[os.DirEntry[str]]:
        """The files that may be taken, by name: none that is hidden, or still on its way."""
        try:
            every = sorted(os.scandir(self.path), key=lambda each: each.name)
        except OSError as error:
            raise IntakeFailed(f"The folder {self.path} cannot be looked into: {error.strerror}.") from error
        return [
            each
            for each in every
            if each.is_file(follow_symlinks=False) and not each.name.startswith((".", "~")) and not each.name.endswith(_NOT_YET)
        ]

    def _ready(self, entry: os.DirEntry[str], now: int) -> bool:
        try:
            stat = entry.stat(follow_symlinks=False)
        except FileNotFoundError:
            return False
        stamp = (stat.st_mtime_ns, stat.st_size)
        if self._given.get(entry.name) == stamp:
            return False
        before = self._seen.get(entry.name)
        if before is None or before[0] != stamp or before[1] > now:
            self._seen[entry.name] = (stamp, now)
            return self.settled == 0
        return now - before[1] >= self.settled * 1000

    def _thing(self, path: Path) -> Thing | None:
        """A file with its identity and its bytes; None while it grows, or when it is gone."""
        try:
            stat = path.stat()
        except FileNotFoundError:
            return None
        stamp, at = (stat.st_mtime_ns, stat.st_size), stat.st_mtime_ns // 1_000_000
        unread = Thing(f"{path.name}:{stat.st_size}:{stat.st_mtime_ns}", path.name, at, stat.st_size, key=_Held(stamp))
        if stat.st_size > self.largest:
            return unread
        try:
            data = path.read_bytes()
        except FileNotFoundError:
            return None
        except OSError as error:
            return replace(unread, key=_Held(stamp, why=str(error.strerror)))
        if len(data) != stat.st_size:
            return None  # it is still growing
        digest = hashlib.sha256(data).hexdigest()[:32]
        # where files are moved away an equal one is another one, dropped again: it is told from the first by when it was changed
        identity = f"{path.name}:{digest}:{stat.st_mtime_ns}" if self.move else f"{path.name}:{digest}"
        return Thing(identity, path.name, at, stat.st_size, key=_Held(stamp, data))

    def _move(self, path: Path) -> None:
        target = self.path / TAKEN / path.name
        try:
            target.parent.mkdir(exist_ok=True)
            number = 1
            while target.exists():
                number += 1
                target = target.with_name(f"{path.stem}-{number}{path.suffix}")
            os.rename(path, target)
        except FileNotFoundError:
            return  # it was moved before
        except OSError as error:
            raise IntakeFailed(f"{path.name} was taken but could not be moved: {error.strerror}.") from error


def _place(said: WatchedFolder, home: Path) -> str:
    return str(home / said.path)


def _build(said: WatchedFolder, here: Here) -> Folder:
    return Folder(here.home / said.path, move=said.after == "move", settled=said.settled, largest=here.largest, opened=said.opened)


KIND = IntakeKind(
    "folder",
    WatchedFolder,
    lambda said: f"files in the folder {said.path}",
    _place,
    _build,
    lambda said, home: Touched(home / said.path),
    quick=True,
    gives="Nothing: a file is known by `item.name`, `item.size` and `item.at`.",
)
