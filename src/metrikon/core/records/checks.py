"""Checks over a record: small functions, one a rule, each yielding what is wrong.

A record type adds arithmetic of its own under `x-metrikon`:

- `sums`: list of {parts: [pointers], equals: pointer, tolerance, unless}; a part /lines/*/amount
  adds up over the rows; a rule is left out when the pointer in `unless` has a value.
- `products`: list of {factors: [pointers in a row], equals: pointer in the row, tolerance}.
- `order`: list of {first: pointer, then: pointer}: the second date must not lie before the first.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from datetime import date
from decimal import Decimal
from typing import Any

from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import get, leaves, shape
from metrikon.core.records.sums import Reckoned, reckon
from metrikon.core.records.types import RecordType
from metrikon.core.values.codes import gtin_problem, iban_problem, vat_problem
from metrikon.core.values.phones import parse_phone
from metrikon.core.values.times import parse_moment, parse_time
from metrikon.core.values.web import parse_address, parse_mail

Check = Callable[[RecordType, dict[str, Any], Mapping[str, Evidence]], Iterable[Finding]]
LEAST_SURE = 0.6


def check_record(kind: RecordType, record: dict[str, Any], evidence: Mapping[str, Evidence], reckoned: Reckoned | None = None) -> list[Finding]:
    """All findings of the built-in checks, those that stop first. `reckoned`: the record's arithmetic, where it was worked out before."""
    found = [finding for check in CHECKS for finding in check(kind, record, evidence)]
    found += (reckoned or reckon(kind, record)).findings
    return sorted(found, key=lambda each: each.level != "stop")


def required(kind: RecordType, record: dict[str, Any], _: Mapping[str, Evidence]) -> Iterator[Finding]:
    """Required fields and rows must be there; where null is allowed it is an answer."""
    whole = kind.with_nulls(record)
    if kind.quick.is_valid(whole):
        return
    told: set[str] = set()
    for error in kind.validator.iter_errors(_floats(whole)):
        place = "".join(f"/{part}" for part in error.absolute_path)
        if error.validator == "required":
            missing = {f"{place}/{name}" for name in error.validator_value if name not in error.instance} - told
            told |= missing  # the library tells of each missing name anew
            for pointer in sorted(missing):
                label = kind.titled(pointer)
                yield Finding("required", "stop", f"{label} is required and was not found.", (pointer,))
        elif error.validator == "minItems":
            least = error.validator_value
            yield Finding("required", "stop", f"{kind.titled(place)} needs at least {least} row{'s' if least != 1 else ''}.", (place,))
        else:
            yield Finding("type", "stop", f"{kind.titled(place)}: {_plain(error)}", (place,))


def _plain(error: Any) -> str:
    """The message of a failed schema rule without the library's quoting of the whole record."""
    value = str(error.instance)[:60]
    told: dict[Any, str] = {
        "type": f"{value!r} is not of type {error.validator_value}.",
        "enum": f"{value!r} is none of {', '.join(map(str, error.validator_value))}."
        if isinstance(error.validator_value, list)
        else error.message[:160],
        "pattern": f"{value!r} does not have the form {error.validator_value}.",
    }
    return told.get(error.validator, str(error.message)[:160])


def dates(kind: RecordType, record: dict[str, Any], _: Mapping[str, Evidence]) -> Iterator[Finding]:
    """Values of format "date" must be dates (RFC 3339, full-date)."""
    if not kind.has_dates:
        return
    for pointer, value in leaves(record if kind.rows_have_dates else {name: value for name, value in record.items() if not isinstance(value, list)}):
        field = kind.by_shape.get(shape(pointer))
        if field is not None and field.schema.get("format") == "date" and _date(value) is None and value is not None:
            yield Finding("format", "stop", f"{field.title} {value!r} is not a date such as 2026-03-31.", (pointer,))


_PROBLEMS: Mapping[str, Callable[[str], str | None]] = {"iban": iban_problem, "vat number": vat_problem, "article number": gtin_problem}
_EXAMPLES: Mapping[str, tuple[Callable[[str], Any], str]] = {
    "phone": (parse_phone, "+441632960143"),
    "mail": (parse_mail, "office@garden.example"),
    "web address": (parse_address, "https://garden.example"),
    "time": (parse_time, "14:30:00"),
    "moment": (parse_moment, "2026-03-31T14:30:00"),
}


def codes(kind: RecordType, record: dict[str, Any], _: Mapping[str, Evidence]) -> Iterator[Finding]:
    """Numbers with check digits must fit them; telephone numbers, addresses and times must be such."""
    if not kind.has_codes:
        return
    for pointer, value in leaves(record):
        field = kind.by_shape.get(shape(pointer))
        if field is None or not isinstance(value, str):
            continue
        problem = _PROBLEMS[field.kind](value) if field.kind in _PROBLEMS else None
        if problem:
            yield Finding("check digit", "stop", f"{kind.titled(pointer)} {value!r}: {problem}.", (pointer,))
        elif field.kind in _EXAMPLES and not _EXAMPLES[field.kind][0](value):
            yield Finding("format", "stop", f"{kind.titled(pointer)} {value!r} is not such as {_EXAMPLES[field.kind][1]}.", (pointer,))


def order(kind: RecordType, record: dict[str, Any], _: Mapping[str, Evidence]) -> Iterator[Finding]:
    """A date that follows another must not lie before it."""
    for rule in kind.ours.get("order", ()):
        first, then = _date(get(record, rule["first"])), _date(get(record, rule["then"]))
        if first and then and then < first:
            message = f"{kind.titled(rule['then'])} {then} lies before {kind.titled(rule['first'])} {first}."
            yield Finding("order", "stop", message, (rule["then"], rule["first"]), {"first": str(first), "then": str(then)})


def supported(kind: RecordType, record: dict[str, Any], evidence: Mapping[str, Evidence]) -> Iterator[Finding]:
    """Every value must stand in the document, unless its field says that it is not printed."""
    for pointer, value in leaves(record):
        given = evidence.get(pointer)
        if given is not None and given.sure >= LEAST_SURE and given.found:
            continue
        field = kind.by_shape.get(shape(pointer))
        if value is None or field is None or not field.needs_evidence:
            continue
        if given is None or not given.found:
            message = f"{field.title} {in_words(value)} stands nowhere in the document."
            yield Finding("unsupported", "stop", message, (pointer,))
        elif given.sure < LEAST_SURE and given.how != "person":
            message = f"{field.title} {in_words(value)} was read with little certainty ({given.sure:.0%})."
            yield Finding("unsure", str(field.ours.get("unsure", "stop")), message, (pointer,))


def in_words(value: Any) -> str:
    """A value as a person says it."""
    return {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)


OF_RECORD = (
    "required",
    "type",
    "format",
    "check digit",
    "sum",
    "product",
    "order",
    "unsupported",
    "unsure",
)  # what the findings of check_record are called
CHECKS: tuple[Check, ...] = (required, dates, codes, order, supported)


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


def _date(value: Any) -> date | None:
    try:
        return date.fromisoformat(value) if isinstance(value, str) else None
    except ValueError:
        return None


def _floats(value: Any) -> Any:
    """A copy in which decimals are ints or floats: the schema library knows no `Decimal` as number."""
    if isinstance(value, Decimal):
        return int(value) if value == value.to_integral_value() else float(value)
    if isinstance(value, dict):
        return {name: _floats(part) for name, part in value.items()}
    return [_floats(part) for part in value] if isinstance(value, list) else value


__all__ = ["CHECKS", "already_seen", "business_key", "check_record"]
