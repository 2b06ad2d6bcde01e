"""The one entry point of reading: bytes in, a document out.

Readers are found through the entry points of the group `metrikon.readers`, ours and those of other
packages alike: an entry point's name is a format, its object a class as `ports.reader.Reader` says.
A reader that also has `recognises(data)` is asked about bytes of no format known here.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from functools import cache
from importlib.metadata import EntryPoint, entry_points
from typing import Any

import msgspec

from metrikon.core.documents.drawing import drawn
from metrikon.core.documents.model import Document, Part
from metrikon.core.extraction.indexing.several import several
from metrikon.ports.reader import Limits, Reader, Refused
from metrikon.readers.detect import Detected, detect
from metrikon.readers.locked import unlocked

GROUP = "metrikon.readers"


@cache
def _known() -> dict[str, EntryPoint]:
    return {each.name: each for each in entry_points(group=GROUP)}


@cache
def _reader(name: str) -> Reader:
    reader: Reader = _known()[name].load()()
    return reader


def formats() -> list[str]:
    """The formats that can be read here."""
    return sorted(_known())


def found_format(data: bytes) -> Detected:
    """What these bytes are, by our own look and then by that of added readers. Raises `Refused`."""
    try:
        return detect(data)
    except Refused:
        for name, entry in _known().items():
            if not entry.value.startswith("metrikon.readers."):
                asked: Any = getattr(_reader(name), "recognises", None)
                why = asked(data) if asked else None
                if why:
                    return Detected(name, str(why))
        raise


def read(data: bytes, limits: Limits | None = None, passwords: Sequence[str] = ()) -> Document:
    """The document in these bytes. `passwords` are tried on what is encrypted.

    Raises `Refused`, never anything else, for what cannot be read.
    """
    given = limits or Limits()
    _check_size(data, given)
    opened = unlocked(data, passwords, given)
    found = found_format(opened)
    document = _reader(found.format).read(opened, hashlib.sha256(data).hexdigest(), given)
    return msgspec.structs.replace(document, why=found.why, documents=several(document))


def parts(data: bytes, limits: Limits | None = None, passwords: Sequence[str] = ()) -> Iterator[tuple[Part, bytes]]:
    """The files within a file, each with its bytes: attachments, members of archives. Raises `Refused`."""
    given = limits or Limits()
    _check_size(data, given)
    opened = unlocked(data, passwords, given)
    inner: Any = getattr(_reader(found_format(opened).format), "parts", None)
    yield from inner(opened, given) if inner else ()


def picture(data: bytes, page: int, turned: float = 0.0, dots: int = 110, passwords: Sequence[str] = ()) -> bytes:
    """One page as PNG, or as SVG when the page was set by us. Raises `Refused`."""
    data = unlocked(data, passwords, Limits())
    own: Any = getattr(_reader(found_format(data).format), "picture", None)
    try:
        return own(data, page, turned, dots) if own else drawn(read(data), page)
    except IndexError as error:
        raise Refused("no-page", f"The document has no page {page}.") from error


def _check_size(data: bytes, limits: Limits) -> None:
    if len(data) > limits.max_bytes:
        size, most = len(data) / 1e6, limits.max_bytes / 1e6
        raise Refused("too-large", f"The file has {size:.1f} MB; the limit is {most:.1f} MB (setting max_bytes).")
