"""Arithmetic that nobody told of but that the values show."""

from __future__ import annotations

from collections.abc import Iterable

from metrikon.core.extraction.state import State
from metrikon.core.records.adding import unsaid
from metrikon.core.records.check import Check
from metrikon.core.records.findings import Finding


def run(state: State) -> Iterable[Finding]:
    """Findings of rows and sums that break what the others show."""
    return unsaid(state.kind, state.record, lambda number: number in state.index.numbers)


NAMES = ("product", "sum", "tax", "order")
CHECK = Check(NAMES, "Whether rows and sums hold that nobody told of but that most rows show.", run, models_only=True, rank=80)
