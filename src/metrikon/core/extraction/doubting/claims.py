"""What the values of a record claim of its document: where each has its evidence, and which have the same."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from decimal import Decimal
from functools import cached_property
from typing import Any

from metrikon.core.extraction.grounding.ground import places
from metrikon.core.extraction.indexing.index import Index, Place
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.pointers import get
from metrikon.core.records.types import Field, RecordType

MOST_PLACES = 60  # of one value that are looked at
NOWHERE = Evidence("")
Line = tuple[int, int]  # page and line


@dataclass(frozen=True)
class Claims:
    """A record with the evidence of its values. `cells`: pointers of values that are cells of a table as they stand."""

    kind: RecordType
    record: Mapping[str, Any]
    evidence: Mapping[str, Evidence]
    index: Index
    cells: frozenset[str]

    def how(self, pointer: str) -> str:
        """How a value is borne out; nothing for one that has no evidence."""
        return self.evidence.get(pointer, NOWHERE).how

    def number(self, pointer: str) -> Decimal | None:
        """The value at a pointer as an exact number; None when it is none."""
        value = get(self.record, pointer)
        return Decimal(value) if isinstance(value, Decimal | int) and not isinstance(value, bool) else None

    def of_the_record(self, kind: str) -> Iterator[tuple[Field, Any]]:
        """The fields of a kind that stand in the record itself and bear no labels of a builder, with their values."""
        for each in self.kind.header:
            if each.kind == kind and each.shape.count("/") == 1 and "labels" not in each.ours:
                yield each, self.record.get(each.name)

    def places(self, field: Field, value: Any) -> list[Place]:
        """Where a value stands, as many as are looked at."""
        return places(field, value, self.index)[:MOST_PLACES]

    def line_of(self, place: Place) -> Line:
        """The line on which a place begins."""
        return place.page, self.index.pages[place.page].line_of[place.words[0]]

    @cached_property
    def by_box(self) -> dict[tuple[int, Any], list[str]]:
        """Which values have their evidence in the same box."""
        found: dict[tuple[int, Any], list[str]] = {}
        for pointer, each in self.evidence.items():
            if each.box is not None and each.how in ("printed", "said", "mapped"):
                found.setdefault((each.page, each.box), []).append(pointer)
        return found
