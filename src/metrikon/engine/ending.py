"""Runs that end by the rows that were written for them: they are settled in the commit that notes the rows, without being claimed once more."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from sqlalchemy import Connection

from metrikon.core.flows.fold import advance
from metrikon.core.flows.state import Settle
from metrikon.engine.states import States
from metrikon.store import runs
from metrikon.store.journal import Written


@dataclass(frozen=True)
class Ended:
    """Where a run stands once so many entries are in its journal: at its end."""

    entries: int
    state: str
    reason: str


class Ending:
    """Looks which runs come to their end. What it does not know, or what leaves something open, a worker does as ever."""

    def __init__(self, states: States) -> None:
        self._states = states

    def ended(self, entries: Mapping[str, Sequence[Written]]) -> dict[str, Ended]:
        """Of runs with the entries that come next in their journals, those that end by them."""
        found = {}
        for run_id, written in entries.items():
            kept = self._states.look(run_id)
            if kept is None or kept.state.flow.leaves or kept.state.corrected:
                continue
            state, left = kept.state, False
            for each in written:
                state, effects = advance(state, each.entry)
                left = left or not all(isinstance(effect, Settle) for effect in effects)
            if state.outcome in runs.SETTLED and not left:
                found[run_id] = Ended(kept.entries + len(written), str(state.outcome), state.reason)
        return found

    @staticmethod
    def settle(connection: Connection, run_id: str, entries: int, ended: Ended | None, now: int) -> bool:
        """Settle a run that waits and whose journal has as many entries as were reckoned with; whether that was so."""
        return ended is not None and entries == ended.entries and runs.end_waiting(connection, run_id, ended.state, ended.reason, now)

    def forget(self, run_ids: Sequence[str]) -> None:
        """Runs that are settled: their states are not kept."""
        for run_id in run_ids:
            self._states.take(run_id)
