"""The inputs of confidence gathered for every value of a reading; the formula is in `records.confidence`."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Any

import msgspec

from metrikon.core.extraction.asking import Given
from metrikon.core.extraction.index import squeezed
from metrikon.core.extraction.readings import Draft
from metrikon.core.records.checks import arithmetic
from metrikon.core.records.confidence import MODEL, Inputs
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.pointers import get
from metrikon.core.records.types import RecordType


def trusted(
    kind: RecordType,
    record: Mapping[str, Any],
    evidence: Mapping[str, Evidence],
    made: Draft,
    given: Sequence[Given],
    other: Mapping[str, Any],
    whole: bool,
) -> dict[str, Evidence]:
    """The evidence with the confidence of each value and its inputs."""
    held, failed = arithmetic(kind, dict(record))
    others = [dict(other)] if other else []
    others += [values for _, values in made.repairs]
    likely = _likely(made)
    found = {}
    same: dict[tuple[float, int, int], tuple[float, dict[str, float]]] = {}  # the many cells of a table have few different inputs
    for pointer, each in evidence.items():
        if pointer in made.cells:
            key = (each.sure, held.get(pointer, 0), failed.get(pointer, 0))
            if key not in same:
                cell = Inputs(each.sure, 1.0, key[1], 0, key[2])
                same[key] = (cell.confidence, cell.as_json())
            msgspec.structs.force_setattr(each, "confidence", same[key][0])  # made for this reading: no one else holds it
            msgspec.structs.force_setattr(each, "inputs", same[key][1])
            found[pointer] = each
            continue
        inputs = Inputs(each.sure if each.found else 0.0, _reading(pointer, each, made, likely, whole))
        inputs.agree, inputs.failed = held.get(pointer, 0), failed.get(pointer, 0)
        value = get(record, pointer)
        if pointer in made.replaced:
            inputs.differ += 1
            others_here: list[dict[str, Any]] = [values for _, values in made.repairs]
        else:
            others_here = others
        for record_of_another in others_here if each.how != "fact" else ():
            theirs = get(record_of_another, pointer)
            if theirs is not None:
                alike = _same(value, theirs)
                inputs.agree += alike
                inputs.differ += not alike and "/" not in pointer[1:]
        found[pointer] = msgspec.structs.replace(each, confidence=inputs.confidence, inputs=inputs.as_json())
    return found


def _reading(pointer: str, each: Evidence, made: Draft, likely: Mapping[str, float], whole: bool) -> float:
    if each.how in ("fact", "person") or pointer in made.cells or whole:
        return 1.0
    return likely.get(pointer, MODEL)


def _likely(made: Draft) -> dict[str, float]:
    """For each header field the probability of the least likely token of its value, where the server told."""
    found: dict[str, float] = {}
    for text, tokens in made.tokens:
        for match in re.finditer(r'"([^"\\]{1,80})"\s*:\s*("(?:[^"\\]|\\.)*"|[-\w.+]+)', text):
            start, least = 0, 0.0
            for end, chance in tokens:
                if end > match.start(2) and start < match.end(2):
                    least = min(least, chance)
                start = end
            found.setdefault(f"/{match.group(1)}", round(math.exp(least), 4))
    return found


def _same(one: Any, two: Any) -> bool:
    if isinstance(one, Decimal | int) and isinstance(two, Decimal | int):
        return Decimal(one) == Decimal(two)
    return squeezed(str(one)) == squeezed(str(two))
