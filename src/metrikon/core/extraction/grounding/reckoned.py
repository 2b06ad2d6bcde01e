"""Values that are printed nowhere but follow from others that are: a sum, a price from an amount and a quantity, a day so long before another.

Each way is a function that tells how a value follows, or nothing. What follows from what follows is found in further rounds.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from decimal import Decimal
from typing import Any

from metrikon.core.extraction.grounding.between import difference_printed, months_between, span
from metrikon.core.extraction.grounding.counted import counted, extreme, numbered, of_two_columns
from metrikon.core.extraction.grounding.days_from import from_another_day, whole_years
from metrikon.core.extraction.grounding.figured import (
    changed_by,
    each_of,
    in_row,
    less_on_its_line,
    multiplied,
    of_a_row,
    of_one_name,
    on_one_line,
    paired,
    priced,
    three_together,
    together,
    with_share,
)
from metrikon.core.extraction.grounding.numbers_of import Sought
from metrikon.core.extraction.grounding.shifted import weekdays_near
from metrikon.core.extraction.grounding.told import with_told, with_two_told
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.pointers import get, leaves, shape
from metrikon.core.records.types import RecordType

SURE = 0.7
ROUNDS = 3  # what follows from what follows, as often

OfAny = Callable[[Sought], "Iterator[str]"]
OfNumbers = Callable[[Sought, Decimal], "Iterator[str]"]


def _span(sought: Sought, value: Decimal) -> Iterator[str]:
    """What lies between two times of the record or row."""
    told = span(sought.field, value, sought.record, sought.pointer) or months_between(sought.field, value, sought.record, sought.pointer)
    if told is not None:
        yield told


def _spans_of_each(sought: Sought, value: Decimal) -> Iterator[str]:
    """The time between two times of a row, as often as a list of the row has days: hours of a course in three evenings."""
    row = get(sought.record, sought.pointer.rsplit("/", 1)[0])
    for name, part in row.items() if isinstance(row, Mapping) else ():
        if isinstance(part, list) and len(part) > 1:
            told = span(sought.field, value / len(part), sought.record, sought.pointer)
            if told is not None:
                yield f"{told}, for each of {len(part)} {name}"


def _difference(sought: Sought, value: Decimal) -> Iterator[str]:
    """How much more one printed number is than another, where that is asked for."""
    told = difference_printed(sought.field, value, sought.index)
    if told is not None:
        yield told


OF_DAYS: tuple[OfAny, ...] = (from_another_day,)
OF_ROWS: tuple[OfNumbers, ...] = (whole_years, in_row, numbered, _span, _spans_of_each, _difference)
OF_RECORD: tuple[OfNumbers, ...] = (
    whole_years,
    counted,
    of_two_columns,
    extreme,
    together,
    three_together,
    multiplied,
    with_told,
    with_two_told,
    _span,
    _difference,
    with_share,
    changed_by,
    paired,
    priced,
    of_a_row,
    each_of,
    less_on_its_line,
    on_one_line,
    of_one_name,
)


def ways(sought: Sought) -> Iterator[str]:
    """Every way in which a value follows, told; the first is the likeliest."""
    value = sought.number
    if value is None:
        yield from (told for way in OF_DAYS for told in way(sought))
    else:
        yield from (told for way in (OF_ROWS if sought.in_row else OF_RECORD) for told in way(sought, value))


def reckon_missing(kind: RecordType, record: Mapping[str, Any], evidence: dict[str, Evidence], index: Index) -> None:
    """Evidence for values that stand nowhere and follow from values that do."""
    weekdays_near(kind, record, evidence, index)
    for _ in range(ROUNDS):
        found = dict(_followed(kind, record, evidence, index))
        if not found:
            return
        evidence.update(found)


def _followed(kind: RecordType, record: Mapping[str, Any], evidence: Mapping[str, Evidence], index: Index) -> Iterator[tuple[str, Evidence]]:
    for pointer, value in leaves(record):
        field, known = kind.by_shape.get(shape(pointer)), evidence.get(pointer)
        if field is None or known is None or known.found or value is None:
            continue
        sought = Sought(kind, record, evidence, index, pointer, field, get(record, pointer))
        how = next(ways(sought), None)
        if how is not None:
            yield pointer, Evidence("derived", quote=how, sure=SURE)
