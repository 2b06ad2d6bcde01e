"""Files of the demo laid where they are looked for."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path


def lay(folder: Path, files: Iterable[tuple[str, bytes]]) -> None:
    """Put files into a folder, each whole at once; those that are there stay."""
    folder.mkdir(exist_ok=True)
    for name, data in files:
        if not (folder / name).exists():
            (folder / f".{name}").write_bytes(data)
            (folder / f".{name}").rename(folder / name)
