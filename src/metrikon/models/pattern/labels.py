"""Where the labels of fields stand in a document. Of labels that overlap, the longest is meant."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from functools import lru_cache

import msgspec

from metrikon.core.documents.model import Document, Line, Page
from metrikon.core.extraction.indexing.labels import label_words
from metrikon.core.records.types import Field


class Hit(msgspec.Struct, frozen=True, gc=False):
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
        starts = frozenset(self._by_first)
        self._may_begin = lru_cache(maxsize=8192)(lambda text: not starts.isdisjoint(label_words(text)))

    def hits(self, document: Document, but: Collection[tuple[int, int]] = ()) -> list[Hit]:
        """Every label in the document, the longest at each place; `but`: (page, word) of lines that are passed over when they begin there."""
        found: list[Hit] = []
        for page in document.pages:
            begins = list(map(self._may_begin, [word.text for word in page.words]))
            for number, line in enumerate(page.lines):
                if any(begins[line.first : line.last]) and (page.number, line.first) not in but:
                    found += self._in_line(page, number, line, begins)
        return found

    def _in_line(self, page: Page, number: int, line: Line, begins: list[bool]) -> list[Hit]:
        found: list[Hit] = []
        for segment in line.segments:
            if not any(begins[segment.first : segment.last]):
                continue
            numbers: list[int] = []
            pieces: tuple[str, ...] = ()
            for n in range(segment.first, segment.last):
                here = label_words(page.words[n].text)
                pieces += here
                numbers += [n] * len(here)
            at = 0
            while at < len(pieces):
                hits, length = self._at(pieces, at) if pieces[at] in self._by_first else ([], 1)
                for field, rank in hits:
                    last = numbers[at + length - 1] + 1
                    starts, ends = at == 0, at + length == len(pieces)
                    found.append(Hit(field, page.number, number, numbers[at], last, rank, starts, ends))
                at += max(length, 1)
        return found

    def _at(self, pieces: tuple[str, ...], at: int) -> tuple[list[tuple[Field, int]], int]:
        best: list[tuple[Field, int]] = []
        length = 0
        for words, field, rank in self._by_first[pieces[at]]:
            if len(words) >= length and pieces[at : at + len(words)] == words:
                if len(words) > length:
                    best, length = [], len(words)
                best.append((field, rank))
        return best, length
