"""Numbers with check digits, telephone numbers, addresses and times must be such."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any

from metrikon.core.records.check import Check
from metrikon.core.records.checked import Checked
from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import leaves, shape
from metrikon.core.values.codes import gtin_problem, iban_problem, vat_problem
from metrikon.core.values.phones import parse_phone
from metrikon.core.values.times import parse_moment, parse_time
from metrikon.core.values.web import parse_address, parse_mail

_PROBLEMS: Mapping[str, Callable[[str], str | None]] = {"iban": iban_problem, "vat number": vat_problem, "article number": gtin_problem}
_EXAMPLES: Mapping[str, tuple[Callable[[str], Any], str]] = {
    "phone": (parse_phone, "+441632960143"),
    "mail": (parse_mail, "office@garden.example"),
    "web address": (parse_address, "https://garden.example"),
    "time": (parse_time, "14:30:00"),
    "moment": (parse_moment, "2026-03-31T14:30:00"),
}


def run(checked: Checked) -> Iterator[Finding]:
    """Numbers with check digits must fit them; telephone numbers, addresses and times must be such."""
    kind, record = checked.kind, checked.record
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


CHECK = Check(
    ("check digit", "format"),
    "Whether codes have the form and the check digits of their kind.",
    run,
    mendable=("check digit", "format"),
    of_rows=("format",),
    rank=20,
)
