"""Values that stand where another value stands."""

from __future__ import annotations

from collections.abc import Iterable

from metrikon.core.extraction.doubting.belonging import belonging
from metrikon.core.extraction.doubting.claims import Claims
from metrikon.core.extraction.state import State
from metrikon.core.records.check import Check
from metrikon.core.records.findings import Finding

NAMES = ("same words", "of another row", "of another column", "of a row", "of another unit")


def run(state: State) -> Iterable[Finding]:
    """Findings about places."""
    return belonging(Claims(state.kind, state.record, state.evidence, state.index, state.cells))


CHECK = Check(NAMES, "Whether each value has a place of its own: in its row, its column, by its unit.", run, models_only=True, rank=40)
