"""Numbers of days, per cents and the like that stand by no such word, though another number does; years that were given for a length."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal

from metrikon.core.extraction.doubting.claims import MOST_PLACES, Claims
from metrikon.core.extraction.grounding.ground import places
from metrikon.core.extraction.indexing.measures import measured
from metrikon.core.extraction.indexing.placed import said_of
from metrikon.core.extraction.indexing.units import lines_with, unit_of
from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import leaves, shape
from metrikon.core.records.types import Field

LARGEST_SHARE = 1000  # per cent that anything grows by in papers that people send
_LENGTHS = frozenset(["days", "weeks", "months", "hours", "minutes"])
_YEARS = range(1900, 2100)


def lengths_and_shares(claims: Claims) -> Iterator[Finding]:
    """Years that were given for a length of time, and shares that are none, also in rows."""
    for pointer, _ in leaves(claims.record):
        field, value = claims.kind.by_shape.get(shape(pointer)), claims.number(pointer)
        unit = unit_of(field) if field is not None and field.kind == "amount" and value is not None else None
        if unit is None or value is None:
            continue
        if unit in _LENGTHS and value in _YEARS and _stands_elsewhere(claims, value, unit):
            yield Finding("of another unit", "stop", f"{claims.kind.titled(pointer)} {value!s} is a year, and no number of {unit}.", (pointer,))
        if unit == "per cent" and abs(value) > LARGEST_SHARE:
            yield Finding("of another unit", "stop", f"{claims.kind.titled(pointer)} {value!s} is no number of per cent.", (pointer,))


def _stands_elsewhere(claims: Claims, value: Decimal, unit: str) -> bool:
    """Whether a number is printed, and never on a line with a word for its unit."""
    lines = {claims.line_of(spot) for spot in claims.index.numbers.get(value, ())}
    return bool(lines) and not lines & lines_with(claims.index, unit)


def other_units(claims: Claims) -> Iterator[Finding]:
    """Numbers of a unit that stand by no word for it, though another number does."""
    for field in claims.kind.header:
        unit, value = unit_of(field), claims.number(field.shape)
        if unit is None or value is None or claims.how(field.shape) not in ("printed", "said"):
            continue
        if _by_no_word(claims, field, value, unit):
            message = f"{claims.kind.titled(field.shape)} {value!s} stands by no word for {unit}, as another number does."
            yield Finding("of another unit", "stop", message, (field.shape,))


def _by_no_word(claims: Claims, field: Field, value: Decimal, unit: str) -> bool:
    index = claims.index
    lines = lines_with(index, unit)
    found = [*index.numbers.get(value, ()), *index.numbers.get(-value, ()), *places(field, value, index)][:MOST_PLACES]
    if not lines or not found or measured(index, unit, value) or said_of(index).numbers.get(value):
        return False
    return not any(claims.line_of(place) in lines for place in found)
