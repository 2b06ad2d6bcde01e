"""A date that follows another must not lie before it."""

from __future__ import annotations

from collections.abc import Iterator

from metrikon.core.records.check import Check
from metrikon.core.records.checked import Checked, day
from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import get


def run(checked: Checked) -> Iterator[Finding]:
    """A date that follows another must not lie before it."""
    kind, record = checked.kind, checked.record
    for rule in kind.ours.get("order", ()):
        first, then = day(get(record, rule["first"])), day(get(record, rule["then"]))
        if first and then and then < first:
            message = f"{kind.titled(rule['then'])} {then} lies before {kind.titled(rule['first'])} {first}."
            yield Finding("order", "stop", message, (rule["then"], rule["first"]), {"first": str(first), "then": str(then)})


CHECK = Check(("order",), "Whether dates follow each other as the record type says.", run, mendable=("order",), rank=30)
