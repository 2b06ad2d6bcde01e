"""The inputs of confidence gathered for every value of a reading; the formula is in `records.confidence`."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from decimal import Decimal
from typing import Any

import msgspec

from metrikon.core.extraction.doubting.doubts import CERTAIN, TELLING
from metrikon.core.extraction.indexing.index import squeezed
from metrikon.core.extraction.parsing.chances import Chances, chance_of, chances
from metrikon.core.extraction.planning.besides import Besides
from metrikon.core.extraction.state import State
from metrikon.core.records.confidence import MODEL, Inputs
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.pointers import get, shape


def trust(state: State) -> State:
    """With the confidence of each value and its inputs."""
    others: list[Mapping[str, Any]] = []
    if state.other.record:
        others.append({name: value for name, value in state.other.header.items() if state.other.sure.get(f"/{name}", 1.0) >= TELLING})
    others += [values for _, values in state.draft.repairs]
    known = chances(state.draft.tokens)
    evidence = {}
    same: dict[Inputs, tuple[float, dict[str, float]]] = {}  # many values have the same inputs
    for pointer, each in state.evidence.items():
        inputs = _inputs(state, pointer, each, others, known)
        if inputs not in same:
            same[inputs] = (inputs.confidence, inputs.as_json())
        evidence[pointer] = msgspec.structs.replace(each, confidence=same[inputs][0], inputs=same[inputs][1])
    return replace(state, evidence=evidence)


def _inputs(state: State, pointer: str, each: Evidence, others: Sequence[Mapping[str, Any]], known: Chances) -> Inputs:
    held, failed = state.reckoned.held.get(pointer, 0), state.reckoned.failed.get(pointer, 0)
    place = each.sure if each.found else 0.0
    if pointer in state.cells or each.how == "fact":
        return Inputs(place, 1.0, held, 0, failed)
    value = get(state.record, pointer)
    if pointer in state.replaced:
        return _of_another_reading(state, pointer, value, place, held, failed)
    agree, differ = _compared(pointer, value, others)
    differ = 0 if pointer in state.settled else differ
    agree = agree or _alike(pointer, state.record, state.other)
    return Inputs(place, _reading(pointer, value, each, known, state.by_patterns), held + agree, differ, failed)


def _of_another_reading(state: State, pointer: str, value: Any, place: float, held: int, failed: int) -> Inputs:
    """What an independent reading gave in the place of a model's value: as sure as that reading is, which has its place in it."""
    sure = state.other.sure.get(pointer, TELLING)
    agree, _ = _compared(pointer, value, [values for _, values in state.draft.repairs])
    differ = int(sure < CERTAIN)  # what it is certain of is taken as it is
    return Inputs(min(place, sure), 1.0, held + agree, differ, failed) if place else Inputs(place, sure, held + agree, differ, failed)


def _alike(pointer: str, record: Mapping[str, Any], other: Besides) -> int:
    """Whether an independent reading, sure of it or not, came to the same value; of rows, in a row that shares another value."""
    name, _, inner = pointer[1:].partition("/")
    number, _, column = inner.partition("/")
    if not inner:
        theirs = other.record.get(name)
        return int(theirs is not None and _same(get(record, pointer), theirs))
    rows = other.record.get(name)
    if not isinstance(rows, list) or not number.isdecimal() or "/" in column:
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


def _compared(pointer: str, value: Any, others: Sequence[Mapping[str, Any]]) -> tuple[int, int]:
    """How many independent readings came to the same value, and how many to another."""
    agree = differ = 0
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
