"""What speaks against the values of a reading: every check of the folder beside, each on the same state."""

from __future__ import annotations

from functools import cache

from metrikon.core.extraction.state import State
from metrikon.core.records.check import Check, found_in
from metrikon.core.records.checked import Checked
from metrikon.core.records.checks import record_checks


@cache
def doubts() -> tuple[Check[State], ...]:
    """The checks of a reading."""
    return tuple(found_in("metrikon.core.extraction.doubting.checks"))


@cache
def every_check() -> tuple[Check[State] | Check[Checked], ...]:
    """The checks of a reading, and those of a record."""
    return (*doubts(), *record_checks())


@cache
def spoiling() -> frozenset[str]:
    """Findings after which the answers that they are about are not given again."""
    return frozenset(name for check in doubts() if check.spoils for name in check.names)


def doubt(state: State) -> State:
    """With the findings of all of them."""
    found = [each for check in doubts() if not (check.models_only and state.by_patterns) for each in check.run(state)]
    return state.noted(found)
