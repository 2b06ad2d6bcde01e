"""Files on a disk: written aside, synced, then moved into place under their hash."""

from __future__ import annotations

import hashlib
import os
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path


class DiskFiles:
    """Keeps files under `root`/files and what is made from them under `root`/derived."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self.elsewhere: Callable[[str], bytes | None] = lambda sha256: None  # bytes that are kept in no file until one is wanted
        for part in ("files", "derived"):
            (root / part).mkdir(parents=True, exist_ok=True)

    def put(self, data: bytes) -> str:
        sha256 = hashlib.sha256(data).hexdigest()
        place = self.path(sha256)
        try:
            os.utime(place)  # it is wanted anew: what looks for old files leaves it
        except FileNotFoundError:
            _write(place, data, sync=True)
        return sha256

    def get(self, sha256: str) -> bytes:
        if not self.here(sha256):
            raise KeyError(sha256)
        return self.path(sha256).read_bytes()

    def here(self, sha256: str) -> bool:
        """Whether the bytes are kept; if they are, they lie in a file afterwards."""
        place = self.path(sha256)
        if place.exists():
            return True
        data = self.elsewhere(sha256)
        if data is None:
            return False
        _write(place, data, sync=True)
        return True

    def path(self, sha256: str) -> Path:
        if len(sha256) != 64 or not all(c in "0123456789abcdef" for c in sha256):
            raise KeyError(sha256)
        return self.root / "files" / sha256[:2] / sha256

    def put_derived(self, name: str, data: bytes) -> None:
        _write(self.derived_path(name), data, sync=False)

    def get_derived(self, name: str) -> bytes | None:
        try:
            return self.derived_path(name).read_bytes()
        except FileNotFoundError:
            return None

    def derived_path(self, name: str) -> Path:
        if not all(c.isalnum() or c in "-." for c in name) or ".." in name:
            raise KeyError(name)
        return self.root / "derived" / name[:2] / name

    def derived_of(self, sha256: str) -> list[Path]:
        """What was made from a file, as far as it is kept."""
        folder = self.root / "derived" / sha256[:2]
        return sorted(folder.glob(f"{sha256}-*")) if folder.is_dir() else []

    def every(self) -> Iterator[str]:
        """The hash of each file that is kept."""
        for place in sorted((self.root / "files").rglob("*")):
            if len(place.name) == 64 and place.is_file():
                yield place.name

    def remove(self, sha256: str) -> int:
        """Keep a file, and what was made from it, no longer; its bytes, 0 when it was not there."""
        for made in self.derived_of(sha256):
            made.unlink(missing_ok=True)
        place = self.path(sha256)
        try:
            size = place.stat().st_size
            place.unlink()
        except FileNotFoundError:
            return 0
        return size

    def age(self, sha256: str) -> float:
        """Seconds since a file was last put here; 0 when it is not there."""
        try:
            return max(0.0, time.time() - self.path(sha256).stat().st_mtime)
        except FileNotFoundError:
            return 0.0

    def size(self, sha256: str) -> int:
        """The bytes of a kept file, with what was made from it; 0 when it is not there."""
        places = [self.path(sha256), *self.derived_of(sha256)]
        return sum(place.stat().st_size for place in places if place.is_file())


def _write(place: Path, data: bytes, *, sync: bool) -> None:
    place.parent.mkdir(parents=True, exist_ok=True)
    handle, aside = tempfile.mkstemp(dir=place.parent, prefix=".new-")
    try:
        with os.fdopen(handle, "wb") as out:
            out.write(data)
            if sync:
                out.flush()
                os.fsync(out.fileno())
        os.replace(aside, place)
    except BaseException:
        Path(aside).unlink(missing_ok=True)
        raise
    if sync:
        folder = os.open(place.parent, os.O_RDONLY)
        try:
            os.fsync(folder)
        finally:
            os.close(folder)
