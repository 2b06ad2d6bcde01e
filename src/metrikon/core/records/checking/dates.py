"""Values of format "date" must be dates."""

from __future__ import annotations

from collections.abc import Iterator

from metrikon.core.records.check import Check
from metrikon.core.records.checked import Checked, day
from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import leaves, shape


def run(checked: Checked) -> Iterator[Finding]:
    """Values of format "date" must be dates (RFC 3339, full-date)."""
    kind, record = checked.kind, checked.record
    if not kind.has_dates:
        return
    for pointer, value in leaves(record if kind.rows_have_dates else {name: value for name, value in record.items() if not isinstance(value, list)}):
        field = kind.by_shape.get(shape(pointer))
        if field is not None and field.schema.get("format") == "date" and day(value) is None and value is not None:
            yield Finding("format", "stop", f"{field.title} {value!r} is not a date such as 2026-03-31.", (pointer,))


CHECK = Check(("format",), "Whether dates are dates.", run, mendable=("format",), of_rows=("format",), rank=10)
