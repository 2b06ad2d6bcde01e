"""Several files that are read as one: a form and the paper it names, pages and the recording of a call. Each page says which file it is of."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator

from metrikon.core.documents.joining import joined
from metrikon.core.documents.model import Document, Part
from metrikon.ports.reader import Limits, Refused
from metrikon.readers.packed import check_archive, member_bytes
from metrikon.readers.recording import FORMATS, heard


class TogetherReader:
    """Reads what `bundled` makes."""

    formats: tuple[str, ...] = ("together",)

    def read(self, data: bytes, sha256: str, limits: Limits) -> Document:
        """The pages of all files, one file after the other. Raises `Refused` naming the file that cannot be read."""
        found = [(part.name, self._read(part.name, content, limits)) for part, content in self.parts(data, limits)]
        if not found:
            raise Refused("empty", "No files were given to be read as one.")
        return joined(Document(sha256, "together", ()), found, limits.max_pages)

    def parts(self, data: bytes, limits: Limits, warnings: list[str] | None = None) -> Iterator[tuple[Part, bytes]]:
        """The files with their bytes."""
        archive = check_archive(data, limits)
        for member in archive.infolist()[1:]:
            content = member_bytes(archive, member, limits)
            name = member.filename.partition("/")[2]
            yield Part(name, hashlib.sha256(content).hexdigest(), len(content), "member"), content

    def _read(self, name: str, content: bytes, limits: Limits) -> Document:
        from metrikon.readers.registry import found_format, read

        if name.lower().rpartition(".")[2] in FORMATS and content[:1] in b"{[":
            return heard(content, hashlib.sha256(content).hexdigest(), "json", name, limits)
        try:
            if found_format(content).format == self.formats[0]:
                raise Refused("nested", "it is itself made of several files that are read as one. Give these files instead.")
            return read(content, limits)
        except Refused as error:
            raise Refused(error.code, f"{name}: {error.reason}") from error
