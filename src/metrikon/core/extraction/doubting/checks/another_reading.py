"""Values of which the reading beside the model is certain that they are others."""

from __future__ import annotations

from collections.abc import Iterable

from metrikon.core.extraction.doubting.doubts import read_otherwise
from metrikon.core.extraction.state import State
from metrikon.core.records.check import Check
from metrikon.core.records.findings import Finding


def run(state: State) -> Iterable[Finding]:
    """Findings where two readings differ."""
    return read_otherwise(state.kind, state.record, state.evidence, state.planned, state.replaced | state.settled)


CHECK = Check(("readings differ",), "Whether an independent reading came to the same amounts.", run, models_only=True, rank=50)
