"""Lists of known values: text files in the folder `lists` of the service, one value a line, or a CSV whose first column counts."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Sequence
from functools import lru_cache
from pathlib import Path

LARGEST = 20_000_000  # bytes
_NAME = re.compile(r"[a-z0-9][a-z0-9_-]{0,59}")


def known_list(folder: Path, name: str) -> Sequence[str] | None:
    """The values of a list, read anew when its file has changed; None when there is no such list."""
    if not _NAME.fullmatch(name):
        return None
    for place in (folder / f"{name}.txt", folder / f"{name}.csv"):
        try:
            about = place.stat()
        except OSError:
            continue
        if about.st_size <= LARGEST:
            return _values(place, about.st_mtime_ns)
    return None


@lru_cache(maxsize=32)
def _values(place: Path, changed: int) -> Sequence[str]:
    text = place.read_text("utf-8-sig", "replace")
    if place.suffix == ".csv":
        rows = csv.reader(io.StringIO(text))
        return tuple(row[0].strip() for row in rows if row and row[0].strip())
    return tuple(line.strip() for line in text.splitlines() if line.strip())
