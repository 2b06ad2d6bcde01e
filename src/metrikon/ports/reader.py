"""Reader: bytes of one file in, a document out; or a refusal that says why."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from metrikon.core.documents.model import Document


@dataclass(frozen=True)
class Limits:
    """What a reader may spend on one file. Each is a setting of the same name."""

    max_bytes: int = 25_000_000
    max_pages: int = 300
    max_pixels: int = 60_000_000
    seconds: float = 120.0
    memory_mb: int = 3000


class Refused(Exception):
    """A file that cannot be read. `reason` is a sentence for people; `code` is for programs."""

    def __init__(self, code: str, reason: str) -> None:
        super().__init__(reason)
        self.code = code
        self.reason = reason


class Reader(Protocol):
    """Reads files of one kind."""

    formats: tuple[str, ...]

    def read(self, data: bytes, sha256: str, limits: Limits) -> Document:
        """The document in `data`. Raises `Refused`."""
        ...

    def picture(self, data: bytes, page: int, turned: float, dots: int) -> bytes:
        """Page `page` (from 1) as PNG bytes, `dots` an inch, turned upright by `turned` degrees."""
        ...
