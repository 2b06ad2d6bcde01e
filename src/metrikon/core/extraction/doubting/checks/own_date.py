"""The date of a talk, where the talk says of itself that it was on another."""

from __future__ import annotations

from collections.abc import Iterable

from metrikon.core.extraction.doubting.doubts import of_its_own_date
from metrikon.core.extraction.state import State
from metrikon.core.records.check import Check
from metrikon.core.records.findings import Finding


def run(state: State) -> Iterable[Finding]:
    """Findings about the talk's own date."""
    return of_its_own_date(state.kind, state.record, state.evidence, state.index)


CHECK = Check(("own date",), "Whether a talk is given the date that it tells of itself.", run, models_only=True, rank=60)
