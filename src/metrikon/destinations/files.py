"""Files that rows are written into: of this machine, or of a server (WebDAV). Read whole, and put in place whole, unless somebody changed them meanwhile."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

from metrikon.connections import asides, webdav
from metrikon.connections.busy import busy
from metrikon.connections.fetching import FetchFailed
from metrikon.destinations.turns import turn_at
from metrikon.ports.destination import Broken, Busy, Unusable

LARGEST = 200_000_000  # bytes of a file on a server


@dataclass(frozen=True)
class Copy:
    """A file as it was when it was looked at: where it can be read (None where there is none), and what tells it from one that was changed."""

    path: Path | None
    stamp: Any


class FilePlace(Protocol):
    """Where a file is. All of it may raise `Busy` and `Broken`."""

    name: str

    def copied(self) -> Any:
        """A context in which a `Copy` can be read."""
        ...

    def put(self, made: Callable[[Path], None], before: Copy) -> None:
        """Put in place what `made` writes into a path, unless the file is another one than before."""
        ...


class LocalFile:
    """A file of this machine."""

    def __init__(self, path: Path) -> None:
        self.path, self.name = path, path.name

    @contextmanager
    def copied(self) -> Iterator[Copy]:
        with turn_at(str(self.path.resolve())):
            self._open_elsewhere()
            yield Copy(self.path if self.path.exists() else None, _stamp(self.path))

    def put(self, made: Callable[[Path], None], before: Copy) -> None:
        """Write aside, sync, and put in place."""
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            handle, name = tempfile.mkstemp(dir=self.path.parent, prefix=f".{self.path.stem}-", suffix=".new")
            os.close(handle)
        except OSError as error:
            raise Busy(f"{self.path.parent} cannot be written to: {error.strerror}.") from error
        aside = Path(name)
        try:
            made(aside)
            with aside.open("rb+") as out:
                os.fsync(out.fileno())
            self._open_elsewhere()
            if _stamp(self.path) != before.stamp:
                raise Busy(f"{self.name} was changed by someone else while rows were added. It is read anew and tried again.")
            if before.path is not None and not os.access(self.path, os.W_OK):
                raise Broken(f"{self.name} may not be written to. Allow it, then continue.")
            aside.chmod(self.path.stat().st_mode & 0o777 if before.path is not None else 0o600)
            os.replace(aside, self.path)
        except OSError as error:
            raise Busy(f"{self.name} cannot be saved: {error.strerror or error}.") from error
        finally:
            aside.unlink(missing_ok=True)

    def _open_elsewhere(self) -> None:
        for lock in (self.path.parent / f".~lock.{self.name}#", self.path.parent / f"~${self.name}"):
            if lock.exists():
                raise Busy(f"{self.name} is open in another program ({lock.name} is there). Close it there; the rows are kept and written then.")


class RemoteFile:
    """A file of a server that a connection leads to. `calling`: how outside services are called (`engine.outside.Outside`)."""

    def __init__(self, calling: Any, connection: str, path: str) -> None:
        self._calling, self._connection, self._path = calling, connection, path
        self.name = path.rpartition("/")[2]
        self._whole = False  # whether it is known that no write of ours was cut off

    @contextmanager
    def copied(self) -> Iterator[Copy]:
        with turn_at(f"{self._connection}: {self._path}"), tempfile.TemporaryDirectory(prefix="metrikon-") as folder:
            with _telling(self.name):
                data, tag = webdav.read(self._calling.fetch, self._connection, self._path, LARGEST)
                if not self._whole:
                    data, tag = asides.make_good(self._calling.fetch, self._connection, self._path, data, tag, LARGEST)
                    self._whole = True
            path = Path(folder) / self.name
            if data is not None:
                path.write_bytes(data)
            yield Copy(path if data is not None else None, tag)

    def put(self, made: Callable[[Path], None], before: Copy) -> None:
        with tempfile.TemporaryDirectory(prefix="metrikon-") as folder, _telling(self.name):
            path = Path(folder) / self.name
            made(path)
            self._whole = False
            status = asides.replace(self._calling.fetch, self._connection, self._path, path.read_bytes(), before.stamp)
            self._whole = True
        if status == 412:
            raise Busy(f"{self.name} was changed by someone else while rows were added. It is read anew and tried again.")
        if status == 423:
            raise Busy(f"{self.name} is locked by somebody on its server. The rows are kept and written when it is free.")
        if status == 507:
            raise Busy(f"The server of {self.name} has no room left. The rows are kept and written when it has.")


@contextmanager
def _telling(name: str) -> Iterator[None]:
    try:
        yield
    except FetchFailed as error:
        if error.cause:
            raise busy(error) from error
        raise Unusable(f"{name} cannot be had from its server: {error}") from error


def _stamp(path: Path) -> tuple[int, int, int] | None:
    try:
        stat = path.stat()
    except FileNotFoundError:
        return None
    return stat.st_mtime_ns, stat.st_size, stat.st_ino
