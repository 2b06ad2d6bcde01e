"""Checks over a record: small functions, one a rule, each yielding what is wrong.

A record type adds arithmetic of its own under `x-metrikon`:

- `sums`: list of {parts: [pointers], equals: pointer, tolerance, unless}; a part /lines/*/amount
  adds up over the rows; a rule is left out when the pointer in `unless` has a value.
- `products`: list of {factors: [pointers in a row], equals: pointer in the row, tolerance}.
- `order`: list of {first: pointer, then: pointer}: the second date must not lie before the first.
"""

from __future__ import annotations

from collections.abc import Mapping
from decimal import Decimal
from functools import cache
from typing import Any

from metrikon.core.records.check import Check, found_in
from metrikon.core.records.checked import Checked, in_words
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import get, shape
from metrikon.core.records.sums import Reckoned, reckon
from metrikon.core.records.types import RecordType

MAKER = "record"  # of findings that follow from the record alone


@cache
def record_checks() -> tuple[Check[Checked], ...]:
    """The checks of a record."""
    return tuple(found_in("metrikon.core.records.checking"))


def check_record(kind: RecordType, record: Mapping[str, Any], evidence: Mapping[str, Evidence], reckoned: Reckoned | None = None) -> list[Finding]:
    """All findings of the built-in checks, those that stop first. `reckoned`: the record's arithmetic, where it was worked out before."""
    checked = Checked(kind, record, evidence, reckoned or reckon(kind, record))
    found = [finding.by(MAKER) for check in record_checks() for finding in check.run(checked)]
    return sorted(found, key=lambda each: each.level != "stop")


def business_key(kind: RecordType, record: dict[str, Any]) -> str | None:
    """What tells this record from others of its type, from the pointers under `key`; None when one is missing."""
    from metrikon.core.values.text import fold

    pointers = kind.ours.get("key") or ()
    values = [get(record, pointer) for pointer in pointers]
    if not values or any(value in (None, "") for value in values):
        return None
    return "|".join("".join(c for c in fold(str(value)) if c.isalnum()) for value in values)


def already_seen(kind: RecordType, before: str) -> Finding:
    """The finding for a record whose business key another item holds."""
    fields = tuple(kind.ours.get("key") or ())
    names = " and ".join(kind.titled(pointer).lower() for pointer in fields)
    message = f"A record with the same {names} was seen before, in {before}."
    return Finding("already seen", "stop", message, fields, {"before": before})


NEVER_DOUBTED = 0.95


def doubts(kind: RecordType, evidence: Mapping[str, Evidence]) -> dict[str, float]:
    """The confidence of every value that a builder may find too little, by pointer."""
    low = {pointer: each.confidence for pointer, each in evidence.items() if each.found and each.confidence < NEVER_DOUBTED}
    return {pointer: each for pointer, each in low.items() if (field := kind.by_shape.get(shape(pointer))) and field.needs_evidence}


def doubtful(kind: RecordType, record: dict[str, Any], low: Mapping[str, Any], least: Decimal, told: set[str]) -> list[Finding]:
    """Values that are less sure than what may be written unattended, the least sure first; `told`: pointers of other findings."""
    found = []
    for confidence, pointer in sorted((Decimal(str(each)), pointer) for pointer, each in low.items()):
        field = kind.by_shape.get(shape(pointer))
        if field is None or confidence >= least or pointer in told:
            continue
        message = (
            f"{kind.titled(pointer)} {in_words(get(record, pointer))} is {confidence:.0%} sure; {least:.0%} is wanted of what is written unattended."
        )
        found.append(Finding("doubtful", str(field.ours.get("unsure", "stop")), message, (pointer,)))
    return found


__all__ = ["already_seen", "business_key", "check_record", "doubtful", "doubts", "record_checks"]
