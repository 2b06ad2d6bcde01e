"""Amounts with the digits that are printed: 407.8 becomes 407.80 where the document says so."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from decimal import Decimal
from typing import Any

from metrikon.core.extraction.grounding.completing import as_sure_as_read
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.state import State
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.pointers import escape
from metrikon.core.values.numbers import parse_number


def print_digits(state: State) -> State:
    """With the digits of the print, for all but cells, which have them."""
    from_cells = {pointer.split("/")[1] for pointer in state.cells}
    free = {name: value for name, value in state.record.items() if name not in from_cells}
    record = {**state.record, **as_printed(free, state.evidence, state.index)}
    return replace(state, record=record, evidence=as_sure_as_read(state, state.evidence))


def as_printed(record: Mapping[str, Any], evidence: Mapping[str, Evidence], index: Index) -> dict[str, Any]:
    """The values of a record with the digits that are printed."""
    return {name: _printed(value, f"/{escape(name)}", evidence, index) for name, value in record.items()}


def _printed(value: Any, pointer: str, evidence: Mapping[str, Evidence], index: Index) -> Any:
    if isinstance(value, dict):
        return {name: _printed(part, f"{pointer}/{escape(name)}", evidence, index) for name, part in value.items()}
    if isinstance(value, list):
        return [_printed(part, f"{pointer}/{number}", evidence, index) for number, part in enumerate(value)]
    if isinstance(value, Decimal | int) and not isinstance(value, bool) and pointer in evidence:
        found = parse_number(evidence[pointer].quote, index.mark)
        return found if found is not None and found == value else value
    return value
