"""Where the labels of fields stand in a document. Of labels that overlap, the longest is meant."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass

from metrikon.core.documents.model import Document, Line, Page
from metrikon.core.extraction.labels import label_words
from metrikon.core.records.types import Field


@dataclass(frozen=True)
class Hit:
    """A label in a line: words [first, last) of a page. `rank` is its place in the field's list, `clean`
    whether it stands at the start of its segment."""

    field: Field
    page: int
    line: int
    first: int
    last: int
    rank: int
    starts: bool
    ends: bool


class LabelBook:
    """All labels of some fields, by their first word."""

    def __init__(self, fields: Iterable[Field]) -> None:
        self._by_first: dict[str, list[tuple[tuple[str, ...], Field, int]]] = {}
        for field in fields:
            for rank, label in enumerate(field.labels):
                words = label_words(label)
                if words:
                    self._by_first.setdefault(words[0], []).append((words, field, rank))
        self._starts = frozenset(self._by_first)

    def hits(self, document: Document, but: Collection[tuple[int, int]] = ()) -> list[Hit]:
        """Every label in the document, the longest at each place; `but`: (page, word) of lines that are passed over when they begin there."""
        lines = [(page, n, line) for page in document.pages for n, line in enumerate(page.lines) if (page.number, line.first) not in but]
        return [hit for page, n, line in lines for hit in self._in_line(page, n, line)]

    def _in_line(self, page: Page, number: int, line: Line) -> list[Hit]:
        found: list[Hit] = []
        for segment in line.segments:
            if self._starts.isdisjoint(piece for word in page.words[segment.first : segment.last] for piece in label_words(word.text)):
                continue
            parts = [(n, piece) for n in range(segment.first, segment.last) for piece in label_words(page.words[n].text)]
            at = 0
            while at < len(parts):
                hits, length = self._at(parts, at) if parts[at][1] in self._by_first else ([], 1)
                for field, rank in hits:
                    last = parts[at + length - 1][0] + 1
                    starts, ends = at == 0, at + length == len(parts)
                    found.append(Hit(field, page.number, number, parts[at][0], last, rank, starts, ends))
                at += max(length, 1)
        return found

    def _at(self, parts: list[tuple[int, str]], at: int) -> tuple[list[tuple[Field, int]], int]:
        best: list[tuple[Field, int]] = []
        length = 0
        for words, field, rank in self._by_first[parts[at][1]]:
            if len(words) >= length and tuple(piece for _, piece in parts[at : at + len(words)]) == words:
                if len(words) > length:
                    best, length = [], len(words)
                best.append((field, rank))
        return best, length
