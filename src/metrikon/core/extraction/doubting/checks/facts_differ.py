"""Print that says something else than the file's own data."""

from __future__ import annotations

from collections.abc import Iterable

from metrikon.core.extraction.doubting.doubts import CERTAIN
from metrikon.core.extraction.grounding.ground import ground
from metrikon.core.extraction.planning.facts import contradicted
from metrikon.core.extraction.state import State
from metrikon.core.records.check import Check
from metrikon.core.records.findings import Finding


def _counts(state: State, name: str) -> bool:
    """Whether what was read from print says anything against a fact: by a label that a builder gave, or with certainty."""
    field = state.kind.by_shape.get(f"/{name}")
    labelled = field is not None and "labels" in field.ours
    return labelled or state.other.sure.get(f"/{name}", 0.0) >= CERTAIN


def run(state: State) -> Iterable[Finding]:
    """Findings where what was read from print differs from facts."""
    printed = state.draft.record if state.by_patterns else state.other.header
    if not (state.planned.facts and printed):
        return []
    header = {name: value for name, value in printed.items() if not isinstance(value, list) and (state.by_patterns or _counts(state, name))}
    return contradicted(state.planned.facts, header, ground(state.kind, header, state.index))


CHECK = Check(("facts differ",), "Whether the print says what the file says of itself for programs.", run, rank=100)
