"""A watched folder: files that have settled are taken in once, then kept or moved as the flow says."""

from __future__ import annotations

import hashlib
import logging
import os
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

from pydantic import Field

from metrikon.core.flows.form import Form
from metrikon.intakes.upload import OPENED
from metrikon.ports.intake import IntakeKind, Take, There
from metrikon.ports.touching import Touched

log = logging.getLogger("metrikon.intakes")
TAKEN = "taken"  # the folder that taken files are moved to
_NOT_YET = (".part", ".partial", ".tmp", ".crdownload", ".download")
AT_ONCE = 16  # files on their way at once, in their order


class WatchedFolder(Form):
    """Files that appear in a folder. Taken when settled, once each."""

    path: str = Field(..., min_length=1, description="The folder; relative paths start at the service's folder.")
    after: Literal["keep", "move"] = Field("keep", description="What becomes of a file that was taken: kept, or moved to `taken`.")
    settled: float = Field(1.0, ge=0, le=3600, description="Seconds a file must have stayed the same.")
    opened: bool = Field(False, description=OPENED)


@dataclass(frozen=True)
class _Sent:
    """A file on its way in."""

    path: Path
    stamp: tuple[int, int]
    wait: Callable[[], object]


@dataclass
class Folder:
    """One folder of one flow, looked at again and again; it remembers what it has seen."""

    path: Path
    move: bool
    settled: float  # seconds
    largest: int  # bytes
    _seen: dict[str, tuple[tuple[int, int], float]] = field(default_factory=dict)
    _taken: dict[str, tuple[int, int]] = field(default_factory=dict)
    problems: dict[str, str] = field(default_factory=dict)

    def look(self, now: float, take: Take) -> int:
        """Take in what has settled at time `now` (seconds); how many files were taken."""
        self.path.mkdir(parents=True, exist_ok=True)
        count = 0
        names = set()
        on_the_way: deque[_Sent] = deque()
        for entry in self._files():
            names.add(entry.name)
            if self._ready(entry, now):
                on_the_way += self._take(Path(entry.path), take)
                if len(on_the_way) >= AT_ONCE:
                    count += self._taken_in(on_the_way.popleft())
        count += sum(self._taken_in(each) for each in on_the_way)
        for gone in set(self._seen) - names:
            self._seen.pop(gone, None)
            self._taken.pop(gone, None)
            self.problems.pop(gone, None)
        return count

    def there(self) -> list[There]:
        """The files in the folder, newest first."""
        if not self.path.is_dir():
            return []
        found = []
        for entry in self._files():
            stat = entry.stat(follow_symlinks=False)
            taken = self._taken.get(entry.name) == (stat.st_mtime_ns, stat.st_size)
            found.append(There(entry.name, stat.st_size, stat.st_mtime_ns // 1_000_000, taken))
        return sorted(found, key=lambda each: -each.changed_at)

    def one(self, name: str, take: Take) -> bool:
        """Take in one file of the folder."""
        entry = next((each for each in self._files() if each.name == name), None) if self.path.is_dir() else None
        return entry is not None and sum(self._taken_in(each) for each in self._take(Path(entry.path), take)) > 0

    def _files(self) -> list[os.DirEntry[str]]:
        """The files that may be taken, by name: none that is hidden, or still on its way."""
        every = sorted(os.scandir(self.path), key=lambda each: each.name)
        return [
            each
            for each in every
            if each.is_file(follow_symlinks=False) and not each.name.startswith((".", "~")) and not each.name.endswith(_NOT_YET)
        ]

    def _ready(self, entry: os.DirEntry[str], now: float) -> bool:
        stat = entry.stat(follow_symlinks=False)
        stamp = (stat.st_mtime_ns, stat.st_size)
        if self._taken.get(entry.name) == stamp:
            return False
        before = self._seen.get(entry.name)
        if before is None or before[0] != stamp:
            self._seen[entry.name] = (stamp, now)
            return self.settled == 0
        return now - before[1] >= self.settled

    def _take(self, path: Path, take: Take) -> list[_Sent]:
        try:
            stat = path.stat()
            stamp = (stat.st_mtime_ns, stat.st_size)
            if stat.st_size > self.largest:
                self.problems[path.name] = (
                    f"{path.name} has {stat.st_size / 1e6:.0f} MB; the limit is {self.largest / 1e6:.0f} MB (setting max_bytes). It was left where it is."
                )
                self._taken[path.name] = stamp
                return []
            data = path.read_bytes()
            if len(data) != stat.st_size:
                return []  # it is still growing
            return [_Sent(path, stamp, take(f"{path.name}:{hashlib.sha256(data).hexdigest()[:32]}", path.name, data))]
        except OSError as error:
            self.problems[path.name] = f"{path.name} cannot be read: {error.strerror}."
            return []

    def _taken_in(self, sent: _Sent) -> int:
        sent.wait()
        name = sent.path.name
        self.problems.pop(name, None)
        self._taken[name] = sent.stamp
        if self.move:
            self._move(sent.path)
        return 1

    def _move(self, path: Path) -> None:
        target = self.path / TAKEN / path.name
        try:
            target.parent.mkdir(exist_ok=True)
            number = 1
            while target.exists():
                number += 1
                target = target.with_name(f"{path.stem}-{number}{path.suffix}")
            os.rename(path, target)
        except OSError as error:
            self.problems[path.name] = f"{path.name} was taken but could not be moved: {error.strerror}."


def _place(said: WatchedFolder, home: Path) -> str:
    return str(home / said.path)


def _build(said: WatchedFolder, home: Path, largest: int) -> Folder:
    return Folder(home / said.path, said.after == "move", said.settled, largest)


KIND = IntakeKind(
    "folder", WatchedFolder, lambda said: f"files in the folder {said.path}", _place, _build, lambda said, home: Touched(home / said.path)
)
