"""One figure of a document that is given for two fields."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from decimal import Decimal
from typing import Any

from metrikon.core.extraction.doubting.claims import Claims
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.indexing.measures import measured
from metrikon.core.extraction.indexing.placed import said_of
from metrikon.core.extraction.indexing.units import unit_of
from metrikon.core.records.findings import Finding
from metrikon.core.records.meaning import MONEY, concept_of
from metrikon.core.records.types import Field

_SUMS = {"gross", "net", "balance", "paid", "line amount", ""}  # these are often the same


def one_place_for_two(claims: Claims) -> Iterator[Finding]:
    """A count and an amount of money, or numbers of different units, that are given the same figure of the document."""
    for (page, _), pointers in claims.by_box.items():
        fields = [each for pointer in pointers if (each := claims.kind.by_shape.get(pointer)) is not None and each.kind == "amount"]
        if len(fields) < 2 or claims.record.get(fields[0].name) in (None, 0, 1):
            continue
        sorts = {_sort(each) for each in fields}
        if len(sorts) < 2 or None in sorts or any(_told_elsewhere(claims, each) for each in fields):
            continue
        names = " and ".join(each.title for each in fields[:3])
        message = f"{names} are given the same figure, which stands once on page {page}."
        yield Finding("same words", "stop", message, tuple(each.shape for each in fields))


def one_number_for_two(claims: Claims) -> Iterator[Finding]:
    """An amount that is given for two fields and stands once, unless both are sums, which are often the same."""
    given: dict[Decimal, list[Field]] = {}
    for each, _ in claims.of_the_record("amount"):
        value = claims.number(each.shape)
        if (
            value is not None
            and value not in (0, 1)
            and claims.how(each.shape) in ("printed", "said")
            and not _counts_rows(each, value, claims.record)
        ):
            given.setdefault(abs(value), []).append(each)
    for value, fields in given.items():
        if len(fields) < 2 or all(concept_of(each) in _SUMS for each in fields):
            continue
        spots = {(place.page, place.words[-1]) for place in claims.places(fields[0], value)}
        if len(spots) < len(fields):
            names = " and ".join(each.title for each in fields[:3])
            message = f"{names} are given the same amount {value}, which stands fewer times in the document."
            yield Finding("same words", "stop", message, tuple(each.shape for each in fields))


def _counts_rows(field: Field, value: Decimal, record: Mapping[str, Any]) -> bool:
    """Whether a whole number is how many rows a list of the record has."""
    return "integer" in field.types and any(isinstance(rows, list) and len(rows) == value for rows in record.values())


def _told_elsewhere(claims: Claims, field: Field) -> bool:
    """Whether a number is said in words, or in another unit of its field: "two weeks" beside "14 volunteers"."""
    value = claims.number(field.shape)
    return value is not None and bool(said_of(claims.index).numbers.get(value) or _in_its_unit(field, value, claims.index))


def _in_its_unit(field: Field, value: Decimal, index: Index) -> bool:
    unit = unit_of(field)
    return bool(unit and measured(index, unit, value))


def _sort(field: Field) -> str | None:
    """Whether a number counts money, a unit, or things; None when that is open."""
    if concept_of(field) in MONEY:
        return "money"
    if unit := unit_of(field):
        return unit
    return "count" if "number" not in field.types else None
