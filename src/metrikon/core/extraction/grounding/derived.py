"""Values that are worked out, not printed: a field may say under `derived` that it is a sum or a count.

`{"sum": "/lines/*/amount"}` adds up, `{"count": "/lines"}` counts rows. Where the document prints the
value too, the print is its evidence; else the rows that it was worked out from are.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from decimal import Decimal
from typing import Any

from metrikon.core.extraction.state import State
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.pointers import get
from metrikon.core.records.types import Field, RecordType


def worked_out(field: Field, record: Mapping[str, Any]) -> Decimal | int | None:
    """The value that rows give a field; None when they do not."""
    how = field.ours.get("derived") or {}
    if "count" in how:
        rows = get(record, str(how["count"]))
        return len(rows) if isinstance(rows, list) else None
    if "sum" in how:
        head, _, tail = str(how["sum"]).partition("/*/")
        rows = get(record, head)
        values = [get(row, f"/{tail}") for row in rows] if isinstance(rows, list) else []
        if values and all(isinstance(value, Decimal | int) for value in values):
            return sum(values, Decimal(0))
    return None


def derive(state: State) -> State:
    """With derived values that no one gave."""
    return replace(state, record=with_derived(state.kind, state.record))


def with_derived(kind: RecordType, record: Mapping[str, Any]) -> Mapping[str, Any]:
    """The record with derived values that no one gave."""
    more = {
        field.name: value
        for field in kind.header
        if field.ours.get("derived")
        and field.shape.count("/") == 1
        and record.get(field.name) is None
        and (value := worked_out(field, record)) is not None
    }
    return {name: {**record, **more}[name] for name in kind.schema["properties"] if name in record or name in more} if more else record


def derived_evidence(kind: RecordType, record: Mapping[str, Any], evidence: dict[str, Evidence]) -> None:
    """Derived values that stand nowhere have the rows behind them as their evidence."""
    for field in kind.header:
        if field.ours.get("derived") and field.shape in evidence and not evidence[field.shape].found:
            value = worked_out(field, record)
            if value is not None and value == get(record, field.shape):
                how = field.ours["derived"]
                what = f"the number of {str(how['count'])[1:]}" if "count" in how else f"the sum of {str(how['sum'])[1:].replace('/*/', ' ')}"
                evidence[field.shape] = Evidence("derived", quote=what)
