"""What is to be asked next, so that a record may become better; nothing when it is settled."""

from __future__ import annotations

from dataclasses import replace

from metrikon.core.extraction.deciding.mending import following
from metrikon.core.extraction.state import State


def ask_next(state: State) -> State:
    """With the requests that are to be made."""
    return state if state.by_patterns else replace(state, next=tuple(following(state)))
