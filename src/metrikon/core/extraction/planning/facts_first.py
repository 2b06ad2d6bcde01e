"""What the file says of itself for programs, before what was read in its print."""

from __future__ import annotations

from dataclasses import replace

from metrikon.core.extraction.planning.facts import taken
from metrikon.core.extraction.state import State


def put_facts(state: State) -> State:
    """With the values of facts in the place of others; what was changed is told."""
    if not state.planned.facts:
        return state
    changes: list[str] = []
    record = taken(state.kind, state.record, state.planned.facts, changes)
    return replace(state, record=record).told(changes)
