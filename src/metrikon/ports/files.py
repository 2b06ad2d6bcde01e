"""Files: bytes kept under their hash."""

from __future__ import annotations

from pathlib import Path
from typing import Protocol


class Files(Protocol):
    """Bytes are on disk and synced when `put` returns."""

    root: Path

    def put(self, data: bytes) -> str:
        """Keep bytes; their SHA-256 in hex is returned. The same bytes are kept once."""
        ...

    def get(self, sha256: str) -> bytes:
        """The bytes. Raises KeyError when they are not kept here."""
        ...

    def here(self, sha256: str) -> bool:
        """Whether the bytes are kept; if they are, they lie at `path` afterwards."""
        ...

    def path(self, sha256: str) -> Path:
        """Where the bytes lie on disk."""
        ...

    def put_derived(self, name: str, data: bytes) -> None:
        """Keep something that can be made again (a document, a page picture) under a name."""
        ...

    def derived_path(self, name: str) -> Path:
        """Where it lies on disk, if it is kept."""
        ...

    def get_derived(self, name: str) -> bytes | None:
        """What was kept under a name, or None."""
        ...
