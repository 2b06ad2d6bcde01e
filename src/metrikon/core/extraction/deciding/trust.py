"""The inputs of confidence gathered for every value of a reading; the formula is in `records.confidence`."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Any

import msgspec

from metrikon.core.extraction.doubting.doubts import CERTAIN
from metrikon.core.extraction.indexing.index import squeezed
from metrikon.core.extraction.parsing.chances import Chances, chance_of, chances
from metrikon.core.extraction.parsing.readings import Draft
from metrikon.core.extraction.planning.besides import Besides
from metrikon.core.records.confidence import MODEL, Inputs
from metrikon.core.records.evidence import MISSING, Evidence
from metrikon.core.records.pointers import get, shape
from metrikon.core.records.sums import Reckoned

TELLING = 0.7  # how sure an independent reading must be of a value for it to count against another


def trusted(
    record: Mapping[str, Any], evidence: Mapping[str, Evidence], reckoned: Reckoned, made: Draft, other: Besides, whole: bool
) -> dict[str, Evidence]:
    """The evidence with the confidence of each value and its inputs."""
    held, failed = reckoned.held, reckoned.failed
    others: list[Mapping[str, Any]] = (
        [{name: value for name, value in other.header.items() if other.sure.get(f"/{name}", 1.0) >= TELLING}] if other.record else []
    )
    others += [values for _, values in made.repairs]
    known = chances(made.tokens)
    found = {}
    same: dict[tuple[float, float, int, int, int], tuple[float, dict[str, float]]] = {}  # many values have the same inputs
    for pointer, each in evidence.items():
        agree, differ, reading = held.get(pointer, 0), 0, 1.0
        if pointer not in made.cells and each.how != "fact":
            more, differ = _compared(pointer, get(record, pointer), others, made)
            more = more or _alike(pointer, record, other, made)
            if pointer in made.replaced:
                reading = other.sure.get(pointer, TELLING)
                differ = int(reading < CERTAIN)  # what it is certain of is taken as it is
            agree, reading = agree + more, reading if pointer in made.replaced else _reading(pointer, get(record, pointer), each, known, whole)
        place = each.sure if each.found else 0.0
        if pointer in made.replaced and place:
            place, reading = min(place, reading), 1.0  # how sure that reading is has its place in it
        key = (place, reading, agree, differ, failed.get(pointer, 0))
        if key not in same:
            inputs = Inputs(*key)
            same[key] = (inputs.confidence, inputs.as_json())
        if each is MISSING:
            each = msgspec.structs.replace(each)
        msgspec.structs.force_setattr(each, "confidence", same[key][0])  # made for this reading: no one else holds it
        msgspec.structs.force_setattr(each, "inputs", same[key][1])
        found[pointer] = each
    return found


def _alike(pointer: str, record: Mapping[str, Any], other: Besides, made: Draft) -> int:
    """Whether an independent reading, sure of it or not, came to the same value; of rows, in a row that shares another value."""
    if pointer in made.replaced:
        return 0
    name, _, inner = pointer[1:].partition("/")
    number, _, column = inner.partition("/")
    if not inner:
        theirs = other.record.get(name)
        return int(theirs is not None and _same(get(record, pointer), theirs))
    rows = other.record.get(name)
    if not isinstance(rows, list) or not number.isdigit() or "/" in column:
        return 0
    value = get(record, pointer)
    if not column:
        return int(any(_same(value, row) for row in rows if not isinstance(row, dict)))
    own = get(record, f"/{name}/{number}")
    return int(
        any(_same(value, row.get(column)) and _share(own, row, column) for row in rows if isinstance(row, dict) and row.get(column) is not None)
    )


def _share(own: Mapping[str, Any], row: Mapping[str, Any], column: str) -> bool:
    """Whether two rows have another value in common."""
    return any(value is not None and key != column and _same(value, row.get(key)) for key, value in own.items())


def _compared(pointer: str, value: Any, others: Sequence[Mapping[str, Any]], made: Draft) -> tuple[int, int]:
    """How many independent readings came to the same value, and how many to another."""
    agree = differ = 0
    if pointer in made.replaced:  # it is what an independent reading came to, against the model
        others, differ = [values for _, values in made.repairs], 1
    for another in others:
        theirs = get(another, pointer)
        if theirs is not None:
            alike = _same(value, theirs)
            agree += alike
            differ += not alike and "/" not in pointer[1:]
    return agree, differ


def _reading(pointer: str, value: Any, each: Evidence, known: Chances, whole: bool) -> float:
    if each.how == "person" or whole:
        return 1.0
    told = chance_of(known, shape(pointer), value) if known else None
    return MODEL if told is None else told


def _same(one: Any, two: Any) -> bool:
    if isinstance(one, Decimal | int) and isinstance(two, Decimal | int):
        return Decimal(one) == Decimal(two)
    return squeezed(str(one)) == squeezed(str(two))
