"""Plain text: paragraphs, or a transcript when its lines name who speaks."""

from __future__ import annotations

import re

import msgspec

from metrikon.core.documents.model import Document, Link
from metrikon.core.documents.setting import COLUMNS, Block, Laid, paragraph
from metrikon.core.documents.tables import find_tables
from metrikon.ports.reader import Limits, Refused
from metrikon.readers.building import Carried, built, typed
from metrikon.readers.charset import decoded
from metrikon.readers.spoken import spoken_lines, transcript

_TOGETHER = re.compile(r"\S+(?: \S+)*")  # words that single spaces join
_ADDRESS = re.compile(r"https?://[^\s<>\"']{3,2000}[^\s<>\"'.,;:!?)\]]")


class PlainReader:
    """Reads text files."""

    formats: tuple[str, ...] = ("text",)

    def read(self, data: bytes, sha256: str, limits: Limits) -> Document:
        """The text as it is laid out: lines stay lines, gaps within them keep parts apart."""
        found = decoded(data)
        if found is None:
            raise Refused("broken", "The file holds bytes that are no text.")
        carried = Carried() if found.sure else Carried(warnings=[f"The file does not say in which encoding it is; it was read as {found.name}."])
        head, sentences = spoken_lines(found.text)
        if sentences:
            return transcript(sha256, "text", sentences, limits, carried, head)
        links = tuple(Link(match.group(), match.group()) for match in _ADDRESS.finditer(found.text[:2_000_000]))[:2000]
        document = built(sha256, "text", text_blocks(found.text), limits, Carried(links=links, warnings=carried.warnings))
        return msgspec.structs.replace(document, tables=tuple(typed(table) for table in find_tables(document.pages)))


def text_blocks(text: str) -> list[Block]:
    """A line each, with its gaps; longer lines are paragraphs; an empty line leaves space."""
    blocks: list[Block] = []
    space = 0
    for line in text.splitlines():
        laid = line.expandtabs(8).rstrip()
        if laid.strip():
            parts = tuple((match.start(), match.group()) for match in _TOGETHER.finditer(laid))
            blocks.append(Laid(parts, space) if len(laid) <= COLUMNS * 2 and len(parts) > 1 else paragraph(line, space))
            space = 0
        else:
            space = 1
    return blocks
