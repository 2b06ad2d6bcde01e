"""A state in the making: what one turn of the fold, or a whole replay, changes in place before it is kept as a `State` again."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from typing import Any

from immutables import Map

from metrikon.core.flows.state import Effect, Frame, Open, Settle, State

_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


class Working:
    """The parts of a state, open to change; those that do not change are shared with the state that it came from."""

    def __init__(self, state: State) -> None:
        self.flow = state.flow
        self.frames = state.frames.mutate()
        self.open = state.open.mutate()
        self.held = state.held.mutate()
        self.told = state.told
        self.outcome = state.outcome
        self.reason = state.reason
        self.now = state.now
        self.corrected: Mapping[str, Mapping[str, Any]] = state.corrected
        self.effects: list[Effect] = []

    def state(self) -> State:
        """The state as it has become. It may be worked on afterwards."""
        frames, opened, held = self.frames.finish(), self.open.finish(), self.held.finish()
        self.frames, self.open, self.held = frames.mutate(), opened.mutate(), held.mutate()
        return State(self.flow, frames, opened, held, self.told, self.outcome, self.reason, self.now, self.corrected)

    def put(self, frame: Frame) -> None:
        """A block that is walked stands so."""
        self.frames[frame.prefix] = frame

    def set_open(self, path: str, step: Open) -> None:
        """A step instance that is not done stands so."""
        self.open[path] = step

    def close(self, path: str) -> None:
        """A step is not open any more."""
        self.open.pop(path, None)

    def hold(self, path: str, what: Any) -> None:
        """Keep something for a step while it is gone through."""
        self.held[path] = what

    def drop(self, path: str) -> Any:
        """What was kept for a step, which is no longer needed."""
        return self.held.pop(path)

    def tell(self, what: str) -> None:
        """Something that is told of the run when it is done."""
        self.told = (*self.told, what)

    def leave(self, prefix: str) -> None:
        """Leave a block, and all within it, as it stands."""
        state = self.state()
        self.frames = Map({at: each for at, each in state.frames.items() if not at.startswith(prefix)}).mutate()
        self.open = Map({at: each for at, each in state.open.items() if not each.frame.startswith(prefix)}).mutate()
        self.held = Map({at: each for at, each in state.held.items() if not at.startswith(prefix)}).mutate()

    def settle(self, outcome: str, reason: str = "") -> None:
        """The run comes to its end."""
        self.outcome, self.reason, self.open = outcome, reason, Map[str, Open]().mutate()
        self.effects.append(Settle(outcome, reason))

    def moment(self) -> datetime:
        """The moment that it is, in the zone of the flow."""
        return (_EPOCH + timedelta(milliseconds=self.now)).astimezone(self.flow.zone)
