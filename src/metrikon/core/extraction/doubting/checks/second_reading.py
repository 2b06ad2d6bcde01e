"""What is decided, where the second reading says something else."""

from __future__ import annotations

from collections.abc import Iterable

from metrikon.core.extraction.planning.second import differing
from metrikon.core.extraction.state import State
from metrikon.core.records.check import Check
from metrikon.core.records.findings import Finding


def run(state: State) -> Iterable[Finding]:
    """Findings where the two readings differ."""
    return differing(state.kind, state.record, state.draft.second)


CHECK = Check(("readings differ",), "Whether what is decided was decided alike twice.", run, rank=90)
