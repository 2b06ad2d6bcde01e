"""Values that stand only in words which give orders to the reader of the document."""

from __future__ import annotations

from collections.abc import Iterable

from metrikon.core.extraction.doubting.doubts import of_orders
from metrikon.core.extraction.state import State
from metrikon.core.records.check import Check
from metrikon.core.records.findings import Finding


def run(state: State) -> Iterable[Finding]:
    """Findings about values that an order may have put there."""
    return of_orders(state.kind, state.record, state.evidence, state.index, state.planned)


CHECK = Check(("orders",), "Whether a value comes from words that give orders to the reader.", run, models_only=True, rank=70)
