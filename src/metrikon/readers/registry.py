"""The one entry point of reading: bytes in, a document out."""

from __future__ import annotations

import hashlib

from metrikon.core.documents.model import Document
from metrikon.ports.reader import Limits, Reader, Refused
from metrikon.readers.detect import detect
from metrikon.readers.pdf import PdfReader
from metrikon.readers.picture import PictureReader

_READERS: dict[str, Reader] = {name: reader for reader in (PdfReader(), PictureReader()) for name in reader.formats}


def read(data: bytes, limits: Limits | None = None) -> Document:
    """The document in these bytes. Raises `Refused`, never anything else, for what cannot be read."""
    given = limits or Limits()
    if len(data) > given.max_bytes:
        size, most = len(data) / 1e6, given.max_bytes / 1e6
        raise Refused("too-large", f"The file has {size:.1f} MB; the limit is {most:.1f} MB (setting max_bytes).")
    reader = _READERS[detect(data)]
    return reader.read(data, hashlib.sha256(data).hexdigest(), given)


def picture(data: bytes, page: int, turned: float = 0.0, dots: int = 110) -> bytes:
    """One page as a PNG. Raises `Refused`."""
    try:
        return _READERS[detect(data)].picture(data, page, turned, dots)
    except IndexError as error:
        raise Refused("no-page", f"The document has no page {page}.") from error
