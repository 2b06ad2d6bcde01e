"""Runs in which steps fail for good, are refused and are looked at again: whatever comes, a replay of the journal gives the state that was lived, and the run ends."""

from __future__ import annotations

import random
from typing import Any

from hypothesis import example, given, settings
from hypothesis import strategies as st

from metrikon.app.kinds import kinds
from metrikon.core.flows.model import Flow
from metrikon.core.flows.reading import flow_from
from metrikon.core.flows.state import Effect, Entry, Perform, State
from tests.core.test_fold import Maker, World


class FailingMaker(Maker):
    """Flows whose steps say what is done when they, or those within them, fail."""

    def step(self, depth: int, element: str) -> dict[str, Any]:
        made = super().step(depth, element)
        if self.dice.random() < 0.3:
            made["on_failure"] = {"then": self.dice.choice(["park", "go on", "end"]), "result": {"of": "nothing"}, "steps": self.told(depth)}
        if "read" in made and self.dice.random() < 0.5:
            made["until"] = {"holds": "true", "wait": 1, "times": 3}
        return made

    def told(self, depth: int) -> list[dict[str, Any]]:
        return self.block(0) if depth and self.dice.random() < 0.5 else []

    def flow(self) -> Flow:
        data: dict[str, Any] = {
            "metrikon": 1,
            "name": "any",
            "intakes": [{"kind": "upload"}],
            "destinations": {"out": {"kind": "sql", "url": "sqlite:///out.db", "table": "rows"}},
            "steps": self.block(2),
        }
        if self.dice.random() < 0.6:
            data["on_failure"] = {"then": self.dice.choice(["park", "end"]), "steps": self.block(0)}
        return flow_from(data, kinds().language)


class FailingWorld(World):
    """Steps fail for good, or are refused; what they give may not be there yet; the flow is told, and people continue."""

    def perform(self, effect: Perform) -> list[Effect]:
        step = self.state.open.get(effect.path)
        if step is None or step.status == "asked":
            return []
        failed = {"message": f"{effect.path} is broken", "again": False, "at": self.now, "refused": self.odd(0.2)}
        if self.odd(0.25):
            return self.note(Entry("failed", effect.path, failed))
        if effect.step.common.until is not None and self.odd(0.6):
            return self.note(Entry("looked", effect.path, {"look": effect.looks + 1, "at": self.now, "jitter": 1}))
        return super().perform(effect)

    def wait_for(self, effects: list[Effect]) -> None:
        parked = [path for path, step in self.state.open.items() if step.status == "parked"]
        if parked and self.odd(0.5):
            self.note(Entry("told", parked[0]))
            return
        super().wait_for(effects)


@settings(max_examples=200, deadline=None)
@given(st.integers(0, 10**9), st.integers(0, 10**9))
@example(1535, 10745)  # continued while the steps for its failure were under way
@example(1705, 11935)
@example(2600, 18200)
def test_a_run_that_fails_in_every_way_is_replayed_as_it_was_lived_and_ends(seed: int, chance: int) -> None:
    world = FailingWorld(FailingMaker(random.Random(seed)).flow(), random.Random(chance))
    found: State = world.play()
    assert found.outcome in ("done", "stopped", "refused")
