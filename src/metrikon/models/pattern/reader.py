"""A record from patterns: header fields by their labels, rows from a table, sums to choose between candidates."""

from __future__ import annotations

from decimal import Decimal
from itertools import product
from typing import Any

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning import columns as table_rows
from metrikon.core.extraction.planning.besides import Besides
from metrikon.core.records.types import CODED, Field, RecordType, resolved
from metrikon.core.values.text import fold
from metrikon.models.pattern.anything import read_any
from metrikon.models.pattern.found import Found
from metrikon.models.pattern.labels import Hit, LabelBook
from metrikon.models.pattern.sender import sender, title
from metrikon.models.pattern.values import Candidate, candidates, merged

TRIED = 4  # candidates a field that are tried against the sums
CLOSE = 0.04  # two candidates this close leave the choice open


def read_record(kind: RecordType, index: Index) -> Found:
    """What patterns find for a record type; what they do not find is left out."""
    found = Found()
    tables = _tables(kind, index, found)
    header = [each for each in kind.header if not each.lookup]
    labelled = [each for each in header if _told(each)]
    options = _header_candidates(labelled, index, tables)
    _by_sums(kind, options, found)
    for each in labelled:
        if not found.has(each):
            _put_best(each, options.get(each.shape, []), index, found)
    read_any(kind, index, [each for each in header if not _told(each) or (each.kind in CODED and not found.has(each))], found)
    found.record = {name: found.record[name] for name in kind.schema["properties"] if name in found.record}
    return found


def _told(each: Field) -> bool:
    """Whether a record type says how documents name a field, or what kind of thing it is."""
    return "labels" in each.ours or "kind" in each.ours


def _tables(kind: RecordType, index: Index, found: Found) -> set[tuple[int, int]]:
    """Read the lists; returns the words (page, number) of the tables that were used."""
    used: set[tuple[int, int]] = set()
    for pointer, fields in kind.lists.items():
        if not any("labels" in each.ours for each in fields):
            continue
        best = table_rows.best_table(fields, index)
        if best is None or pointer.count("/") != 1:
            continue
        table, columns, _ = best
        schema = resolved(kind.schema, kind.schema["properties"][pointer[1:]])
        not_rows = {fold(text) for text in (schema.get("x-metrikon") or {}).get("not_rows", ())}
        rows, places, sure = table_rows.read_rows(pointer, fields, table, columns, index, not_rows)
        if rows:
            found.record[pointer[1:]] = rows
            found.places.update(places)
            found.sure.update(sure)
        for cells in (table.header, *table.rows):
            used.update((cell.page, number) for cell in cells for number in cell.words)
        used.update(_repeated_heads(table, index))
    return used


def _repeated_heads(table: Any, index: Index) -> set[tuple[int, int]]:
    """Words of the header line on the pages where it is repeated."""
    key = fold(" ".join(cell.text for cell in table.header))
    found: set[tuple[int, int]] = set()
    for number in table.pages[1:]:
        page = index.pages[number]
        for line in page.lines:
            if fold(line.text) == key:
                found.update((number, n) for n in range(line.first, line.last))
    return found


UNLABELLED = ("sender", "title", "currency")


def read_besides(kind: RecordType, index: Index) -> Besides:
    """An independent reading beside a model: header fields that stand by their labels, and for fields and lists without labels all that is found."""
    found = Found()
    used = {(cell.page, number) for table in index.document.tables for row in table.rows for cell in row for number in cell.words}
    header = [each for each in kind.header if each.kind not in UNLABELLED and not each.lookup and _told(each)]
    options = _header_candidates(header, index, used, _book_of(kind, header))
    _by_sums(kind, options, found)
    for each in header:
        if not found.has(each):
            _put_best(each, options.get(each.shape, []), index, found)
    open_fields = [each for each in kind.header if not each.lookup and not _told(each)]
    texts = any(each.shape.endswith("/*") for each in kind.fields)
    if open_fields or texts or any(not any("labels" in each.ours for each in fields) for fields in kind.lists.values()):
        read_any(kind, index, open_fields, found)
    return Besides(found.record, found.places, found.sure)


_BOOKS: dict[int, tuple[RecordType, LabelBook]] = {}  # the same few record types come again and again


def _book_of(kind: RecordType, header: list[Field]) -> LabelBook:
    known = _BOOKS.get(id(kind))
    if known is not None and known[0] is kind:
        return known[1]
    if len(_BOOKS) > 63:
        _BOOKS.clear()
    _BOOKS[id(kind)] = (kind, LabelBook(header))
    return _BOOKS[id(kind)][1]


def _header_candidates(header: list[Field], index: Index, tables: set[tuple[int, int]], book: LabelBook | None = None) -> dict[str, list[Candidate]]:
    labelled = [each for each in header if each.kind not in UNLABELLED]
    hits = [hit for hit in (book or LabelBook(labelled)).hits(index.document, tables) if (hit.page, hit.first) not in tables]
    label_at = {(hit.page, number) for hit in hits if hit.starts for number in range(hit.first, hit.last)}
    options: dict[str, list[Candidate]] = {}
    for hit in hits:
        options.setdefault(hit.field.shape, []).extend(_kept(hit, index, label_at, tables))
    return {shape: merged(found) for shape, found in options.items()}


def _kept(hit: Hit, index: Index, label_at: set[tuple[int, int]], tables: set[tuple[int, int]]) -> list[Candidate]:
    return [each for each in candidates(hit, index, label_at, tables) if (hit.page, each.place.words[0]) not in tables]


def _by_sums(kind: RecordType, options: dict[str, list[Candidate]], found: Found) -> None:
    """Where a sum of header fields holds for some candidates, take those: figures that agree are right."""
    for rule in kind.ours.get("sums", ()):
        shapes = [*rule["parts"], rule["equals"]]
        if any("/*" in shape for shape in shapes) or not all(options.get(shape) for shape in shapes):
            continue
        best: tuple[float, tuple[Candidate, ...]] | None = None
        for choice in product(*(options[shape][:TRIED] for shape in shapes)):
            values = [each.value for each in choice]
            if abs(sum(values[:-1], Decimal(0)) - values[-1]) <= Decimal(str(rule.get("tolerance", "0.02"))) and values[-1] != 0:
                score = sum(each.score for each in choice)
                if best is None or score > best[0]:
                    best = (score, choice)
        if best is not None:
            for shape, each in zip(shapes, best[1], strict=True):
                found.put(kind.by_shape[shape], each.value, each.place, 0.97)


def _put_best(each: Field, options: list[Candidate], index: Index, found: Found) -> None:
    if each.kind == "sender":
        guess = sender(index)
        if guess:
            found.put(each, guess.text, guess.place, min(0.97, 0.45 + guess.score / 10))
    elif each.kind == "title":
        guess = title(each, index)
        if guess:
            found.put(each, guess.text, guess.place, 0.95 if guess.score > 0.8 else 0.7)
    elif each.kind == "currency":
        if index.currency:
            found.put(each, index.currency, None, 0.95)
    elif options:
        best = options[0]
        close = [other for other in options[1:] if best.score - other.score < CLOSE]
        sure = best.score * (0.55 if close and each.kind != "amount" else 0.8 if close else 1.0)
        found.put(each, best.value, best.place, round(sure, 3))
