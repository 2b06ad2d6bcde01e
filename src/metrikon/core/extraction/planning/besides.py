"""What an independent reading came to beside a model: the pattern reader's values with their places and certainties.

Rows that it is certain of are not asked of a model at all: every row shows quantity × price = amount, and they add up to a printed total.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

from metrikon.core.extraction.indexing.index import Index, Place
from metrikon.core.records.adding import shown_product
from metrikon.core.records.meaning import concept_of
from metrikon.core.records.types import Field, RecordType

LEAST_ROWS = 2
FEW_ROWS = 8  # as many are written out by a model, which parts a text from what stands beside it better than we do
_OF_LINES = re.compile(
    r"\b(?:line|zeile|ligne|l[ií]nea|riga|regel|linha|linje|rad|wiersz|without|ohne|sans|sin|senza|zonder|only|nur|seulement|solo|alleen)",
    re.IGNORECASE,
)


@dataclass(frozen=True)
class Besides:
    """An independent reading: its record, and place and certainty of its values by pointer."""

    record: Mapping[str, Any] = field(default_factory=dict)
    places: Mapping[str, Place] = field(default_factory=dict)
    sure: Mapping[str, float] = field(default_factory=dict)

    @property
    def header(self) -> dict[str, Any]:
        """Its values outside of lists."""
        return {name: value for name, value in self.record.items() if not isinstance(value, list)}


def certain_rows(kind: RecordType, besides: Besides, index: Index) -> dict[str, list[Any]]:
    """The rows of lists, by pointer, that need no model."""
    found = {}
    for pointer, fields in kind.lists.items():
        rows = besides.record.get(pointer[1:]) if pointer.count("/") == 1 and not any("labels" in each.ours for each in fields) else None
        if isinstance(rows, list) and len(rows) > FEW_ROWS and _certain(pointer, fields, rows, besides, index):
            found[pointer] = rows
    return found


def _certain(pointer: str, fields: Sequence[Field], rows: Sequence[Any], besides: Besides, index: Index) -> bool:
    texts = [each for each in fields if each.kind == "text"]
    filled = all(each.name in row or (each.nullable and each.kind != "text") for row in rows for each in fields)
    told = len(texts) == 1 or {concept_of(each) for each in texts} == {"description", "detail"}
    parted = len(texts) > 1 or bool(_OF_LINES.search(str(texts[0].schema.get("description") or ""))) if texts else False
    lines = not parted or all(_one_line(pointer, n, each, besides, index) for n in range(len(rows)) for each in texts)
    return filled and told and lines and add_up(fields, rows, index) and _nothing_between(pointer, rows, texts, besides, index)


def _nothing_between(pointer: str, rows: Sequence[Any], texts: Sequence[Field], besides: Besides, index: Index) -> bool:
    """Whether no line stands between the rows that belongs to none of them, and each text says what it is in a word.

    What stands between may be a heading, an article's number, a second line of a description: a person or a model must say.
    """
    if any(not _WORD.search(_UNITS.sub("", str(row.get(each.name) or ""))) for row in rows for each in texts):
        return False
    own = {
        (place.page, index.pages[place.page].line_of[word])
        for at, place in besides.places.items()
        if at.startswith(f"{pointer}/")
        for word in place.words
    }
    for number in {page for page, _ in own}:
        lines = [line for page, line in own if page == number]
        if len(set(lines)) < max(lines) - min(lines) + 1:
            return False
    return True


_WORD = re.compile(r"[^\W\d_]{3}")
_UNITS = re.compile(r"\b\d+(?:[.,]\d+)?\s?(?:kg|g|mg|ml|cl|l|mm|cm|m|km|h|std|stk|pcs|pce|pz|ud|szt)\b\.?", re.IGNORECASE)


def add_up(fields: Sequence[Field], rows: Sequence[Any], index: Index) -> bool:
    """Whether every row shows quantity × price = amount, and the amounts come to a total that is printed."""
    shown = shown_product(rows, [each for each in fields if each.kind == "amount"]) if len(rows) >= LEAST_ROWS else None
    if shown is None or shown[1]:
        return False
    amount = shown[0].amount
    if concept_of(amount) == "unit price" or "line amount" in {concept_of(each) for each in shown[0].factors}:
        return False
    if any(not isinstance(row.get(amount.name), Decimal | int) for row in rows):
        return False
    total = sum((abs(Decimal(row[amount.name])) for row in rows), Decimal(0))
    return bool(index.numbers.get(total) or index.numbers.get(-total))


def merged_rows(
    pointer: str, fields: Sequence[Field], written: Sequence[Any], besides: Besides, index: Index
) -> tuple[list[dict[str, Any]], dict[str, Place]] | None:
    """A model's rows, one for one those that add up as they were read besides, with the places of their print.

    A value of the model that is printed on the lines of its row is kept; a figure that is not gives way to the print. None where the
    rows are not as many, or those read besides do not add up: then the model's stand.
    """
    rows = besides.record.get(pointer[1:])
    if not isinstance(rows, list) or len(rows) != len(written) or not add_up(fields, rows, index):
        return None
    made: list[dict[str, Any]] = []
    places: dict[str, Place] = {}
    for number, (row, other) in enumerate(zip(rows, written, strict=True)):
        above = f"{pointer}/{number}"
        lines = _lines_of(above, besides, index)
        filled = dict(other) if isinstance(other, Mapping) else {}
        for each in fields:
            own, theirs = row.get(each.name), filled.get(each.name)
            at = f"{above}/{each.name}"
            if own is None or at not in besides.places:
                continue
            if theirs == own:
                places[at] = besides.places[at]
            elif each.kind == "amount" and (theirs is None or not _on_lines(theirs, lines, index)) and (theirs is not None or not each.nullable):
                filled[each.name] = own
                places[at] = besides.places[at]
        made.append({each.name: filled[each.name] for each in fields if filled.get(each.name) is not None})
    return made, places


def _lines_of(above: str, besides: Besides, index: Index) -> set[tuple[int, int]]:
    """The lines on which a row stands, with one before and after: what belongs to it may stand there."""
    found = {
        (place.page, index.pages[place.page].line_of[word])
        for at, place in besides.places.items()
        if at.startswith(f"{above}/")
        for word in place.words
    }
    return {(page, line + near) for page, line in found for near in (-1, 0, 1)}


def _on_lines(value: Any, lines: set[tuple[int, int]], index: Index) -> bool:
    """Whether a figure is printed on some lines, with its sign or without."""
    if not isinstance(value, Decimal | int):
        return False
    places = [*index.numbers.get(Decimal(value), ()), *index.numbers.get(-Decimal(value), ())]
    return any((place.page, index.pages[place.page].line_of[word]) in lines for place in places for word in place.words)


def _one_line(pointer: str, number: int, text: Field, besides: Besides, index: Index) -> bool:
    """Whether the text of a row stands on one line: of several it is open which belong to it."""
    place = besides.places.get(f"{pointer}/{number}/{text.name}")
    return place is not None and len({index.pages[place.page].line_of[word] for word in place.words}) == 1
