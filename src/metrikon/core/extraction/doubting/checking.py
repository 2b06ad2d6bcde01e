"""The record's own checks within a reading: what the desk checks anew after a correction."""

from __future__ import annotations

from dataclasses import replace

from metrikon.core.extraction.state import State
from metrikon.core.records.checks import check_record
from metrikon.core.records.sums import reckon


def check(state: State) -> State:
    """With the arithmetic of the record and the findings of its checks."""
    reckoned = reckon(state.kind, state.record)
    return replace(state, reckoned=reckoned, checked=tuple(check_record(state.kind, state.record, state.evidence, reckoned)))
