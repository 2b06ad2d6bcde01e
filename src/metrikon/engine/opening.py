"""Archives and mails on their way in: each file in them becomes an item of its own, when the intake says so."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from metrikon.core.documents.model import Part
from metrikon.drivers.reading import ReaderPool
from metrikon.ports.files import Files
from metrikon.ports.reader import Refused
from metrikon.ports.step import ReaderDied

HOLDERS = ("zip", "eml")
_NEVER = (b"%PDF-", b"\x89PNG", b"\xff\xd8\xff", b"II*\x00", b"MM\x00*")  # told by their first bytes to hold nothing


@dataclass(frozen=True)
class Inner:
    """A file that came in within another; `place` tells it from the others there."""

    place: str
    name: str
    sha256: str
    size: int


class Opening:
    """Opens holders in a worker process, as deep as is allowed."""

    def __init__(self, readers: ReaderPool, files: Files, deepest: int, passwords: Callable[[str], Sequence[str]] = lambda flow: ()) -> None:
        self._passwords = passwords
        self._readers = readers
        self._files = files
        self._deepest = deepest

    def inner(self, data: bytes, sha256: str, flow: str = "") -> list[Inner]:
        """The files within a file that was kept; none when it holds none, or cannot be opened: then it is an item itself."""
        return self._inner(sha256, "", 1, self._passwords(flow)) if may_hold(data) else []

    def _inner(self, sha256: str, place: str, depth: int, passwords: Sequence[str]) -> list[Inner]:
        try:
            format, parts = self._readers.keep_parts(self._files.path(sha256), self._files.root, passwords)
        except (Refused, ReaderDied):
            return []  # its own run says why
        if format not in HOLDERS:
            return []
        found: list[Inner] = []
        for number, part in enumerate(part for part in parts if part.role != "inline"):
            here = f"{place}/{number + 1}"
            deeper = self._inner(part.sha256, here, depth + 1, passwords) if depth < self._deepest and _may_hold(part) else []
            found += deeper or [Inner(here, part.name, part.sha256, part.size)]
        return found


def may_hold(data: bytes) -> bool:
    """Whether a file may hold others, as far as its first bytes tell."""
    return not data.startswith(_NEVER)


def _may_hold(part: Part) -> bool:
    return part.name.lower().endswith((".zip", ".eml")) or part.media == "message/rfc822"


__all__ = ["Inner", "Opening", "may_hold"]
