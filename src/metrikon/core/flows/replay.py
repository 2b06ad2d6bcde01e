"""A replay: what was lived before is gone through again. Most steps of a journal are done, so that nothing of them is made but their results."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import msgspec
from msgspec.structs import replace

from metrikon.core.flows.model import Step
from metrikon.core.flows.state import Open, State
from metrikon.core.flows.walk import CannotGoOn, Here, Walk, natural


class _Block(msgspec.Struct, frozen=True):
    """A block within a step that is reached, with names besides those in scope. `since`: when it was."""

    here: Here
    label: str
    steps: tuple[Step, ...]
    names: Mapping[str, Any]
    since: int


class Replay(Walk):
    """A walk in which blocks are begun and parameters filled only when something of them is wanted."""

    def __init__(self, state: State) -> None:
        super().__init__(state)
        self._unfilled: list[str] = []
        self._unbegun: dict[str, _Block] = {}  # by the path of the first step

    def reached(self, path: str) -> bool:
        """Whether a step is open, its block begun if it was not."""
        block = self._unbegun.pop(path, None)
        if block is not None:
            now, self.now = self.now, block.since
            super().inside(block.here, block.label, block.steps, block.names)
            self.run()
            self.now = now
        return path in self.open

    def done_at_once(self, path: str, result: Any, at: int) -> bool:
        """The only step of a block that was not begun has come to its end: so has the block, and nothing of it need be made."""
        block = self._unbegun.get(path)
        if block is None or len(block.steps) > 1 or path in self.corrected:
            return False
        del self._unbegun[path]
        self.now = at or self.now
        self.tell_of(block.steps[0], result)
        self._through(block.here, block.label, {block.steps[0].name: result})
        if self._agenda:
            self.run()
        return True

    def fill_up(self) -> None:
        """Begin and fill all that was left for later, and walk whatever follows from that."""
        while self._unfilled or self._unbegun:
            for path in list(self._unbegun):
                self.reached(path)
            opened = [(path, self.open[path]) for path in self._unfilled if path in self.open]
            self._unfilled = []
            for path, step in sorted(opened, key=lambda each: natural(each[0])):
                if path in self.open and self.open[path].parameters is None:
                    self._fill(path, step)
            self.run()

    def inside(self, here: Here, label: str, steps: Sequence[Step], names: Mapping[str, Any] | None = None) -> None:
        prefix, first = here.block(label), steps[0] if steps else None
        if first is not None and first.kind.control is None and first.common.when is None and prefix not in self.frames:
            # nothing follows from it but that its first step is to be done
            self._unbegun[prefix + first.name] = _Block(here, label, tuple(steps), names or {}, self.now)
        else:
            super().inside(here, label, steps, names)

    def leave(self, prefix: str) -> None:
        self._unbegun = {at: each for at, each in self._unbegun.items() if not at.startswith(prefix)}
        super().leave(prefix)

    def settle(self, outcome: str, reason: str = "") -> None:
        self._unbegun = {}
        super().settle(outcome, reason)

    def _open(self, here: Here) -> None:
        self._unfilled.append(here.path)
        self.set_open(here.path, Open(here.frame.prefix, here.step, None, late=self._limit(here), since=self.now))

    def _fill(self, path: str, step: Open) -> None:
        """Fill the parameters of a step that was opened without, as they were when it was opened."""
        now, self.now = self.now, step.since
        here = self.here(self.frames[step.frame])
        try:
            values, _ = self.filled(here, here.step.plain)
            problem = here.step.kind.incomplete(values, self.missing(here))
            if problem:
                raise CannotGoOn(problem)
            self.set_open(path, replace(step, parameters=values))
        except CannotGoOn as error:
            self._stuck(here, Open(step.frame, here.step, {}), str(error))
        self.now = now
