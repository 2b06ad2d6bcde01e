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
from math import prod
from typing import Any

from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import get, leaves, shape
from metrikon.core.records.types import RecordType
from metrikon.core.values.codes import gtin_problem, iban_problem, vat_problem
from metrikon.core.values.phones import parse_phone
from metrikon.core.values.times import parse_moment, parse_time
from metrikon.core.values.web import parse_address, parse_mail

Check = Callable[[RecordType, dict[str, Any], Mapping[str, Evidence]], Iterable[Finding]]
LEAST_SURE = 0.6
DEFAULT_TOLERANCE = Decimal("0.02")


def check_record(kind: RecordType, record: dict[str, Any], evidence: Mapping[str, Evidence]) -> list[Finding]:
    """All findings of the built-in checks, those that stop first."""
    found = [finding for check in CHECKS for finding in check(kind, record, evidence)]
    return sorted(found, key=lambda each: each.level != "stop")


def required(kind: RecordType, record: dict[str, Any], _: Mapping[str, Evidence]) -> Iterator[Finding]:
    """Required fields and rows must be there."""
    if kind.quick.is_valid(record):
        return
    told: set[str] = set()
    for error in kind.validator.iter_errors(_floats(record)):
        place = "".join(f"/{part}" for part in error.absolute_path)
        if error.validator == "required":
            missing = {f"{place}/{name}" for name in error.validator_value if name not in error.instance} - told
            told |= missing  # the library tells of each missing name anew
            for pointer in sorted(missing):
                label = _title(kind, pointer)
                yield Finding("required", "stop", f"{label} is required and was not found.", (pointer,))
        elif error.validator == "minItems":
            least = error.validator_value
            yield Finding("required", "stop", f"{_title(kind, place)} needs at least {least} row{'s' if least != 1 else ''}.", (place,))
        else:
            yield Finding("type", "stop", f"{_title(kind, place)}: {_plain(error)}", (place,))


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
            yield Finding("check digit", "stop", f"{_title(kind, pointer)} {value!r}: {problem}.", (pointer,))
        elif field.kind in _EXAMPLES and not _EXAMPLES[field.kind][0](value):
            yield Finding("format", "stop", f"{_title(kind, pointer)} {value!r} is not such as {_EXAMPLES[field.kind][1]}.", (pointer,))


def sums(kind: RecordType, record: dict[str, Any], _: Mapping[str, Evidence]) -> Iterator[Finding]:
    """Parts must add up to their total within the stated tolerance."""
    for rule in kind.ours.get("sums", ()):
        equals = get(record, rule["equals"])
        if "unless" in rule and get(record, rule["unless"]) is not None:
            continue
        amount = _added(record, rule["parts"])
        if not isinstance(equals, Decimal | int) or amount is None:
            continue
        tolerance = Decimal(str(rule.get("tolerance", DEFAULT_TOLERANCE)))
        if abs(amount - equals) > tolerance:
            what = " + ".join(_title(kind, part) for part in rule["parts"])
            message = f"{what} comes to {amount}, but {_title(kind, rule['equals'])} is {equals}: a difference of {abs(amount - equals)}."
            compared = {"computed": str(amount), "printed": str(equals)}
            pointers = tuple(_taking_part(record, rule))
            yield Finding("sum", "stop", message, pointers if len(pointers) <= 4 else pointers[:1], compared)


def arithmetic(kind: RecordType, record: dict[str, Any]) -> tuple[dict[str, int], dict[str, int]]:
    """(how many sums and products hold, how many do not) for each header field and row value that takes part in one."""
    held: dict[str, int] = {}
    failed: dict[str, int] = {}
    for rule in kind.ours.get("sums", ()):
        equals = get(record, rule["equals"])
        if "unless" in rule and get(record, rule["unless"]) is not None:
            continue
        amount = _added(record, rule["parts"])
        if isinstance(equals, Decimal | int) and amount is not None:
            into = held if abs(amount - equals) <= Decimal(str(rule.get("tolerance", DEFAULT_TOLERANCE))) else failed
            for pointer in _taking_part(record, rule):
                into[pointer] = into.get(pointer, 0) + 1
    for rule in kind.ours.get("products", ()):
        for number, row in enumerate(get(record, rule["list"]) or ()):
            off = _product_off(row, rule)
            if off is None:
                continue
            into = held if off <= Decimal(str(rule.get("tolerance", DEFAULT_TOLERANCE))) else failed
            for part in (rule["equals"], *rule["factors"]):
                pointer = f"{rule['list']}/{number}{part}"
                into[pointer] = into.get(pointer, 0) + 1
    return held, failed


def _taking_part(record: dict[str, Any], rule: Mapping[str, Any]) -> Iterator[str]:
    for part in (rule["equals"], *rule["parts"]):
        head, star, tail = part.partition("/*/")
        if star:
            yield from (f"{head}/{n}/{tail}" for n in range(len(get(record, head) or ())))
        else:
            yield part


def _product_off(row: Any, rule: Mapping[str, Any]) -> Decimal | None:
    """How far the product of a row is from what is printed; None when a part is missing."""
    equals, *values = [get(row, part) for part in (rule["equals"], *rule["factors"])]
    if not all(isinstance(value, Decimal | int) for value in (equals, *values)):
        return None
    product: Decimal = prod(values, start=Decimal(1))
    return abs(product - Decimal(equals))


def _added(record: dict[str, Any], parts: list[str]) -> Decimal | None:
    """The sum of the parts; None when a part is missing."""
    total = Decimal(0)
    for part in parts:
        head, star, tail = part.partition("/*/")
        rows = get(record, head)
        values = [get(row, f"/{tail}") for row in rows or ()] if star else [rows]
        if not values or not all(isinstance(value, Decimal | int) for value in values):
            return None
        total = sum(values, total)
    return total


def products(kind: RecordType, record: dict[str, Any], _: Mapping[str, Evidence]) -> Iterator[Finding]:
    """In a row, the factors must multiply to their product within the stated tolerance."""
    for rule in kind.ours.get("products", ()):
        head = rule["list"]
        tolerance = Decimal(str(rule.get("tolerance", DEFAULT_TOLERANCE)))
        for number, row in enumerate(get(record, head) or ()):
            off = _product_off(row, rule)
            if off is not None and off > tolerance:
                values, equals = [get(row, factor) for factor in rule["factors"]], get(row, rule["equals"])
                amount = prod(values, start=Decimal(1))
                fields = tuple(f"{head}/{number}{part}" for part in (rule["equals"], *rule["factors"]))
                message = f"Row {number + 1}: {' × '.join(map(str, values))} is {amount.normalize():f}, but {equals} is printed."
                level = str(rule.get("level", "stop"))
                yield Finding("product", level, message, fields, {"computed": f"{amount:f}", "printed": str(equals)})


def order(kind: RecordType, record: dict[str, Any], _: Mapping[str, Evidence]) -> Iterator[Finding]:
    """A date that follows another must not lie before it."""
    for rule in kind.ours.get("order", ()):
        first, then = _date(get(record, rule["first"])), _date(get(record, rule["then"]))
        if first and then and then < first:
            message = f"{_title(kind, rule['then'])} {then} lies before {_title(kind, rule['first'])} {first}."
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
            message = f"{field.title} {value!s} stands nowhere in the document."
            yield Finding("unsupported", "stop", message, (pointer,))
        elif given.sure < LEAST_SURE and given.how != "person":
            message = f"{field.title} {value!s} was read with little certainty ({given.sure:.0%})."
            yield Finding("unsure", str(field.ours.get("unsure", "stop")), message, (pointer,))


OF_RECORD = ("required", "type", "format", "check digit", "sum", "product", "order", "unsupported", "unsure")  # what findings of CHECKS are called
CHECKS: tuple[Check, ...] = (required, dates, codes, sums, products, order, supported)


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
    names = " and ".join(_title(kind, pointer).lower() for pointer in fields)
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
        message = f"{_title(kind, pointer)} {get(record, pointer)!s} is {confidence:.0%} sure; {least:.0%} is wanted of what is written unattended."
        found.append(Finding("doubtful", str(field.ours.get("unsure", "stop")), message, (pointer,)))
    return found


def _title(kind: RecordType, pointer: str) -> str:
    field = kind.by_shape.get(shape(pointer))
    if field is not None:
        return f"{field.title}" if "/*" not in field.shape else f"{field.title} (row {_row(pointer)})"
    return pointer.strip("/").replace("/", " ").capitalize() or "The record"


def _row(pointer: str) -> str:
    return next((str(int(part) + 1) for part in pointer.split("/") if part.isdigit()), "sum of rows")


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
