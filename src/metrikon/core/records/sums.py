"""The arithmetic of a record, in one pass: which sums and products hold, for each value that takes part, and what is found wrong.

A record type may hold under `x-metrikon`: `sums`: [{parts, equals, tolerance, unless}] and `products`: [{list, factors, equals,
tolerance, level}]. Amounts are exact; a rule a part of which is missing says nothing.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from math import prod
from typing import Any

from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import get, steps
from metrikon.core.records.types import RecordType

DEFAULT_TOLERANCE = Decimal("0.02")
MOST_NAMED = 4  # values that a finding names; more are named by their total


@dataclass
class Reckoned:
    """How many sums and products hold and how many do not, for each value that takes part in one, by pointer; and the findings."""

    held: dict[str, int] = field(default_factory=dict)
    failed: dict[str, int] = field(default_factory=dict)
    findings: list[Finding] = field(default_factory=list)

    def note(self, holds: bool, pointers: Sequence[str]) -> None:
        """Count a rule for all values that take part in it."""
        into = self.held if holds else self.failed
        for pointer in pointers:
            into[pointer] = into.get(pointer, 0) + 1


def reckon(kind: RecordType, record: Mapping[str, Any]) -> Reckoned:
    """Work out every sum and product."""
    found = Reckoned()
    for rule in kind.ours.get("sums", ()):
        if "unless" not in rule or get(record, rule["unless"]) is None:
            _sum(kind, record, rule, found)
    for rule in kind.ours.get("products", ()):
        _products(record, rule, found)
    return found


def _sum(kind: RecordType, record: Mapping[str, Any], rule: Mapping[str, Any], found: Reckoned) -> None:
    equals, amount = get(record, rule["equals"]), _added(record, rule["parts"])
    if amount is None or not isinstance(equals, Decimal | int):
        return
    off = abs(amount - equals)
    holds = off <= _tolerance(rule)
    pointers = tuple(_taking_part(record, rule))
    found.note(holds, pointers)
    if not holds:
        what = " + ".join(kind.titled(part) for part in rule["parts"])
        message = f"{what} comes to {amount}, but {kind.titled(rule['equals'])} is {equals}: a difference of {off}."
        named = pointers if len(pointers) <= MOST_NAMED else pointers[:1]
        found.findings.append(Finding("sum", "stop", message, named, {"computed": str(amount), "printed": str(equals)}))


def _added(record: Mapping[str, Any], parts: Sequence[str]) -> Decimal | None:
    """The sum of the parts; None when a part is missing."""
    total = Decimal(0)
    for part in parts:
        head, star, tail = part.partition("/*/")
        rows = get(record, head)
        values = _column(rows or (), tail) if star else [rows]
        if not values or not all(isinstance(value, Decimal | int) for value in values):
            return None
        total = sum(values, total)
    return total


def _taking_part(record: Mapping[str, Any], rule: Mapping[str, Any]) -> Iterator[str]:
    for part in (rule["equals"], *rule["parts"]):
        head, star, tail = part.partition("/*/")
        if star:
            yield from [f"{head}/{n}/{tail}" for n in range(len(get(record, head) or ()))]
        else:
            yield part


def _products(record: Mapping[str, Any], rule: Mapping[str, Any], found: Reckoned) -> None:
    head, parts, tolerance = rule["list"], (rule["equals"], *rule["factors"]), _tolerance(rule)
    rows = get(record, head) or ()
    columns = [_column(rows, part[1:]) for part in parts]
    for number, (equals, *factors) in enumerate(zip(*columns, strict=True)):
        if not isinstance(equals, Decimal | int) or not all(isinstance(value, Decimal | int) for value in factors):
            continue
        amount = prod(factors, start=Decimal(1))
        holds = abs(amount - equals) <= tolerance
        pointers = [f"{head}/{number}{part}" for part in parts]
        found.note(holds, pointers)
        if not holds:
            message = f"Row {number + 1}: {' × '.join(map(str, factors))} is {amount.normalize():f}, but {equals} is printed."
            compared = {"computed": f"{amount:f}", "printed": str(equals)}
            found.findings.append(Finding("product", str(rule.get("level", "stop")), message, tuple(pointers), compared))


def _column(rows: Sequence[Any], tail: str) -> list[Any]:
    """The values at the same place of all rows; None where there is none."""
    path = steps(f"/{tail}")
    if len(path) == 1:
        return [row.get(path[0]) if isinstance(row, dict) else None for row in rows]
    return [get(row, f"/{tail}") for row in rows]


def _tolerance(rule: Mapping[str, Any]) -> Decimal:
    return Decimal(str(rule.get("tolerance", DEFAULT_TOLERANCE)))
