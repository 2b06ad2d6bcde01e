"""Reader: bytes of one file in, a document out; or a refusal that says why."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol

from metrikon.core.documents.model import Document, Part


@dataclass(frozen=True)
class Limits:
    """What a reader may spend on one file. Each is a setting of the same name."""

    max_bytes: int = 25_000_000
    max_pages: int = 300
    max_pixels: int = 60_000_000
    max_expanded: int = 200_000_000
    max_ratio: int = 200
    max_members: int = 500
    max_depth: int = 3
    seconds: float = 120.0
    memory_mb: int = 3000


class Refused(Exception):
    """A file that cannot be read. `reason` is a sentence for people; `code` is for programs."""

    def __init__(self, code: str, reason: str) -> None:
        super().__init__(reason)
        self.code = code
        self.reason = reason


class Reader(Protocol):
    """Reads files of one kind.

    It may also have `picture(data, page, turned, dots)`, which draws a page that is not set by us, and
    `parts(data, limits)`, which gives the files within a file: see `PagedReader` and `HoldingReader`.
    """

    formats: tuple[str, ...]

    def read(self, data: bytes, sha256: str, limits: Limits) -> Document:
        """The document in `data`. Raises `Refused`."""
        ...


class HoldingReader(Reader, Protocol):
    """A reader of files that hold others."""

    def parts(self, data: bytes, limits: Limits, warnings: list[str] | None = None) -> Iterator[tuple[Part, bytes]]:
        """Each file within, with its bytes. Raises `Refused`."""
        ...


class PagedReader(Reader, Protocol):
    """A reader of files that have pages of their own."""

    def picture(self, data: bytes, page: int, turned: float, dots: int) -> bytes:
        """Page `page` (from 1) as PNG bytes, `dots` an inch, turned upright by `turned` degrees."""
        ...
