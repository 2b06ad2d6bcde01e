"""What an independent reading came to beside a model: the pattern reader's values with their places and certainties.

Rows that it is certain of are not asked of a model at all: every row shows quantity × price = amount, and they add up to a printed total.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

from metrikon.core.extraction.index import Index, Place
from metrikon.core.records.adding import shown_product
from metrikon.core.records.meaning import concept_of
from metrikon.core.records.types import Field, RecordType

LEAST_ROWS = 2
SURE = 0.9  # of a value of such rows


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
    amounts = [each for each in fields if each.kind == "amount"]
    shown = shown_product(rows, amounts) if len(rows) >= LEAST_ROWS else None
    if shown is None or shown[1]:
        return False
    one, two, amount, _ = shown[0]
    if concept_of(amount) == "unit price" or "line amount" in (concept_of(one), concept_of(two)):
        return False
    total = sum((abs(Decimal(row[amount.name])) for row in rows), Decimal(0))
    outside = index.numbers.get(total) or index.numbers.get(-total)
    texts = [each for each in fields if each.kind == "text"]
    filled = all(each.name in row or (each.nullable and each.kind != "text") for row in rows for each in fields)
    return bool(outside) and filled and len(texts) == 1 and all(_one_line(pointer, n, texts[0], besides, index) for n in range(len(rows)))


def _one_line(pointer: str, number: int, text: Field, besides: Besides, index: Index) -> bool:
    """Whether the text of a row stands on one line: of several it is open which belong to it."""
    place = besides.places.get(f"{pointer}/{number}/{text.name}")
    return place is not None and len({index.pages[place.page].line_of[word] for word in place.words}) == 1
