"""What an independent reading came to beside a model: the pattern reader's values with their places and certainties.

Rows that it is certain of are not asked of a model at all: every row shows quantity × price = amount, and they add up to a printed total.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

from metrikon.core.extraction.index import Index, Place, squeezed
from metrikon.core.records.adding import shown_product
from metrikon.core.records.meaning import concept_of
from metrikon.core.records.types import Field, RecordType

LEAST_ROWS = 2
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
        if isinstance(rows, list) and _certain(pointer, fields, rows, besides, index):
            found[pointer] = rows
    return found


def _certain(pointer: str, fields: Sequence[Field], rows: Sequence[Any], besides: Besides, index: Index) -> bool:
    texts = [each for each in fields if each.kind == "text"]
    filled = all(each.name in row or (each.nullable and each.kind != "text") for row in rows for each in fields)
    told = len(texts) == 1 or {concept_of(each) for each in texts} == {"description", "detail"}
    parted = len(texts) > 1 or bool(_OF_LINES.search(str(texts[0].schema.get("description") or ""))) if texts else False
    lines = not parted or all(_one_line(pointer, n, each, besides, index) for n in range(len(rows)) for each in texts)
    return filled and told and lines and add_up(fields, rows, index)


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
    """Rows that add up as they were read besides, filled with what only the model's rows have; None where those do not add up.

    Figures are those of the print; a text is the model's where it stands in the print of its row and is not all of it.
    """
    rows = besides.record.get(pointer[1:])
    if not isinstance(rows, list) or not add_up(fields, rows, index):
        return None
    made: list[dict[str, Any]] = []
    places: dict[str, Place] = {}
    for number, row in enumerate(rows):
        other = _partner(row, number, rows, written, fields)
        filled: dict[str, Any] = {}
        for each in fields:
            own, theirs = row.get(each.name), other.get(each.name)
            taken = theirs is not None and (own is None or (each.kind == "text" and _within(theirs, row, fields)))
            value = theirs if taken else own
            if value is not None:
                filled[each.name] = value
            at = f"{pointer}/{number}/{each.name}"
            print_of = next(
                (f for f in fields if f.kind == "text" and theirs is not None and squeezed(str(theirs)) in squeezed(str(row.get(f.name) or ""))), each
            )
            behind = f"{pointer}/{number}/{print_of.name}" if taken and own is not None else at
            if behind in besides.places and (not taken or own is not None):
                places[at] = besides.places[behind]
        made.append(filled)
    return made, places


def _within(theirs: Any, row: Mapping[str, Any], fields: Sequence[Field]) -> bool:
    """Whether a model's text is a part of the print of its row, and not several of its texts together."""
    texts = [squeezed(str(row[each.name])) for each in fields if each.kind == "text" and row.get(each.name)]
    wanted = squeezed(str(theirs))
    return len(wanted) > 2 and any(wanted in text for text in texts)


def _partner(row: Mapping[str, Any], number: int, rows: Sequence[Any], written: Sequence[Any], fields: Sequence[Field]) -> Mapping[str, Any]:
    """The model's row that is meant: the one at the same place, or the one that has most values of it."""
    others = [each for each in written if isinstance(each, Mapping)]
    if len(others) == len(rows):
        return others[number]
    scored: list[tuple[int, Mapping[str, Any]]] = [
        (sum(row.get(f.name) is not None and row.get(f.name) == each.get(f.name) for f in fields), each) for each in others
    ]
    best = max(scored, key=lambda pair: pair[0], default=(0, {}))
    return best[1] if best[0] >= 2 else {}


def _one_line(pointer: str, number: int, text: Field, besides: Besides, index: Index) -> bool:
    """Whether the text of a row stands on one line: of several it is open which belong to it."""
    place = besides.places.get(f"{pointer}/{number}/{text.name}")
    return place is not None and len({index.pages[place.page].line_of[word] for word in place.words}) == 1
