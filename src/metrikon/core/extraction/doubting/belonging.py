"""Whether values belong where they were given: the same words for two fields, a value of another row, a figure of another column.

A model that mixes values up gives ones that do stand in the document. What it cannot give is a place of its own for each.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any

from metrikon.core.extraction.doubting.bare_prices import bare_prices
from metrikon.core.extraction.doubting.claims import Claims
from metrikon.core.extraction.doubting.days_twice import day_of_another, end_of_a_span
from metrikon.core.extraction.doubting.numbers_twice import one_number_for_two, one_place_for_two
from metrikon.core.extraction.doubting.of_rows import of_rows
from metrikon.core.extraction.doubting.other_units import lengths_and_shares, other_units
from metrikon.core.extraction.doubting.taken_by_rows import taken_by_rows
from metrikon.core.extraction.doubting.words_twice import words_twice
from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import leaves

MOST_ROWS = 400


def belonging(claims: Claims) -> list[Finding]:
    """Findings about values that stand where another value stands; of the same values the first that was found."""
    told: dict[tuple[str, ...], Finding] = {}
    for part in PARTS:
        for each in part(claims):
            told.setdefault(each.fields, each)
    return list(told.values())


def in_their_rows(claims: Claims) -> Iterator[Finding]:
    """Values of lists that stand outside the lines of their row, or in another column than most."""
    for pointer in claims.kind.lists:
        rows = claims.record.get(pointer[1:]) if pointer.count("/") == 1 else None
        if isinstance(rows, list) and 1 < len(rows) <= MOST_ROWS and not _all_cells(pointer, rows, claims.cells):
            yield from of_rows(claims.kind, pointer, rows, claims.index)


def _all_cells(pointer: str, rows: Sequence[Any], cells: frozenset[str]) -> bool:
    """Whether every value of a list is a cell of a table as it stands."""
    return all(at in cells for at, value in leaves(rows, pointer) if value is not None)


PARTS: tuple[Callable[[Claims], Iterable[Finding]], ...] = (
    words_twice,
    day_of_another,
    end_of_a_span,
    one_place_for_two,
    one_number_for_two,
    bare_prices,
    taken_by_rows,
    lengths_and_shares,
    other_units,
    in_their_rows,
)
