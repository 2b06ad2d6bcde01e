"""Numbers that are printed nowhere but follow from others that are: a price from an amount and a quantity, a count of rows, a sum."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from decimal import Decimal
from itertools import combinations, permutations
from typing import Any

from metrikon.core.extraction.grounding.between import after_so_many_days, difference_printed, span
from metrikon.core.extraction.grounding.shifted import weekdays_near
from metrikon.core.extraction.grounding.told import with_told
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.pointers import leaves, shape
from metrikon.core.records.types import RecordType

CENT, EXACT, SURE = Decimal("0.01"), Decimal("0.004"), 0.7
LEAST_NUMBERED = 3  # rows that are numbered one after the other
SMALL = 10  # whole numbers below it are counted or said, and hardly ever two others together
MOST = 14  # numbers of a record that are tried with each other


def reckon_missing(kind: RecordType, record: Mapping[str, Any], evidence: dict[str, Evidence], index: Index) -> None:
    """Evidence for numbers that stand nowhere and follow from numbers that do."""
    missing = [(pointer, each) for pointer, each in evidence.items() if not each.found and "/" in pointer]
    weekdays_near(kind, record, evidence, index)
    for pointer, _ in missing:
        field = kind.by_shape.get(shape(pointer))
        if field is not None and (days := after_so_many_days(field, _at(record, pointer), record, pointer, index)) is not None:
            evidence[pointer] = Evidence("derived", quote=days, sure=SURE)
        if field is None or field.kind != "amount":
            continue
        value = _number(_at(record, pointer))
        if value is None:
            continue
        how = next(_in_row(record, pointer, value, evidence), None) if "/*/" in field.shape else next(_in_record(record, value, evidence), None)
        how = how or numbered(record, pointer, value) or next(with_told(field, value, _found(record, evidence)), None) or span(field, value, record, pointer) or difference_printed(field, value, index)
        if how is not None:
            evidence[pointer] = Evidence("derived", quote=how, sure=SURE)


def _at(record: Any, pointer: str) -> Any:
    for step in pointer.split("/")[1:]:
        record = (
            record[int(step)]
            if isinstance(record, list) and step.isdigit() and int(step) < len(record)
            else record.get(step)
            if isinstance(record, Mapping)
            else None
        )
    return record


def _number(value: Any) -> Decimal | None:
    return Decimal(value) if isinstance(value, Decimal | int) and not isinstance(value, bool) else None


def numbered(record: Mapping[str, Any], pointer: str, value: Decimal) -> str | None:
    """Whether a value is the number of its row, as it is in every row of the list."""
    head, _, inner = pointer.rpartition("/")
    above, _, number = head.rpartition("/")
    rows = _at(record, above) if number.isdigit() else None
    if not isinstance(rows, list) or len(rows) < LEAST_NUMBERED or value != int(number) + 1:
        return None
    counted = all(isinstance(row, Mapping) and row.get(inner) == at + 1 for at, row in enumerate(rows))
    return "the number of its row" if counted else None


def _found(record: Mapping[str, Any], evidence: Mapping[str, Evidence]) -> list[tuple[str, Decimal]]:
    """The numbers of a record outside of rows that stand in the document."""
    return [
        (name, number)
        for name, each in record.items()
        if (number := _number(each)) is not None and number and (own := evidence.get(f"/{name}")) is not None and own.found
    ][:MOST]


def _in_row(record: Mapping[str, Any], pointer: str, value: Decimal, evidence: Mapping[str, Evidence]) -> Iterator[str]:
    """What two other numbers of the row come to."""
    row = pointer.rsplit("/", 1)[0]
    others = [
        (inner.rsplit("/", 1)[-1], number)
        for inner, each in leaves(_at(record, row), row)
        if inner != pointer and (number := _number(each)) is not None and (own := evidence.get(inner)) is not None and own.found
    ]
    for (one, a), (two, b) in permutations(others[:6], 2):
        if b and abs(a / b - value) <= CENT and b != 1:
            yield f"{one} divided by {two}"
        if one < two and abs(a * b - value) <= CENT and a != 1 and b != 1:
            yield f"{one} times {two}"
        if abs(a * b / 100 - value) <= CENT and 0 < b < 100:
            yield f"{two} per cent of {one}"


def _in_record(record: Mapping[str, Any], value: Decimal, evidence: Mapping[str, Evidence]) -> Iterator[str]:
    """A count of rows, a sum over rows, or what two other numbers come to."""
    lists = {name: rows for name, rows in record.items() if isinstance(rows, list)}
    for name, rows in lists.items():
        if rows and value == len(rows):
            yield f"the number of {name}"
        columns = {key for row in rows if isinstance(row, Mapping) for key in row}
        for key in sorted(columns):
            values = [_number(row.get(key)) for row in rows if isinstance(row, Mapping)]
            if len(values) > 1 and None not in values and abs(sum(each for each in values if each is not None) - value) <= EXACT:
                yield f"the sum of {name} {key}"
    if abs(value) < SMALL and value == int(value):
        return  # two of any numbers come to a small one
    others = _found(record, evidence)
    for (one, a), (two, b) in combinations(others, 2):
        if abs(a + b - value) <= EXACT:
            yield f"{one} and {two} together"
        if abs(abs(a - b) - abs(value)) <= EXACT and a != b:
            yield f"{one} less {two}"
