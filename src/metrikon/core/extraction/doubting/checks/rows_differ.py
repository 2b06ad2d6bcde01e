"""Rows read from a table and rows that a model wrote out, where their figures are not the same."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal

from metrikon.core.extraction.state import State
from metrikon.core.records.check import Check
from metrikon.core.records.findings import Finding


def run(state: State) -> Iterator[Finding]:
    """One finding for each list of another length, or for each figure that is another."""
    for pointer, written in state.draft.written.items():
        rows = state.record.get(pointer[1:]) or []
        amounts = [each.name for each in state.kind.lists.get(pointer, ()) if each.kind == "amount"]
        if len(rows) != len(written):
            message = f"The table holds {len(rows)} rows, but the model wrote out {len(written)}. Compare them with the page."
            yield Finding("rows differ", "stop", message, (pointer,), {"table": str(len(rows)), "written": str(len(written))})
            continue
        for number, (row, other) in enumerate(zip(rows, written, strict=True)):
            for name in amounts:
                one, two = row.get(name), other.get(name) if isinstance(other, dict) else None
                if isinstance(one, Decimal | int) and isinstance(two, Decimal | int) and one != two:
                    message = f"Row {number + 1}: {name.replace('_', ' ')} is {one} in the table, but the model wrote {two}."
                    yield Finding("rows differ", "warn", message, (f"{pointer}/{number}/{name}",), {"table": str(one), "written": str(two)})


CHECK = Check(("rows differ",), "Whether the cells of a table and the rows that a model wrote out are the same.", run, rank=30)
