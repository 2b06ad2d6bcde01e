"""Any flow of any kinds, however it is disturbed and resumed, ends with the rows of a run that nothing disturbed."""

from __future__ import annotations

import random
from collections.abc import Mapping
from typing import Any

from hypothesis import example, given, settings
from hypothesis import strategies as st

from metrikon.app.kinds import kinds
from metrikon.core.flows.fold import advance, replayed, todo
from metrikon.core.flows.model import Flow
from metrikon.core.flows.reading import flow_from
from metrikon.core.flows.state import Again, AskPerson, Effect, Entry, Late, Listen, Park, Perform, Settle, State, Wake

START = {"item": {"id": "i", "file": "f", "name": "a.pdf", "n": 3}, "run": {"id": "r", "today": "2026-11-23"}}
BEGAN = 1_800_000_000_000


class Maker:
    """Makes flows: each step is one of every kind that there is, within others now and then."""

    def __init__(self, dice: random.Random) -> None:
        self.dice = dice
        self.count = 0
        self.lists: list[str] = ["[1, 2, 3]", "[1, null, 3]", "[]", "for i in 1..item.n return i"]

    def block(self, depth: int, element: str = "") -> list[dict[str, Any]]:
        return [self.step(depth, element) for _ in range(self.dice.randint(1, 3))]

    def step(self, depth: int, element: str) -> dict[str, Any]:
        self.count += 1
        name = f"s{self.count}"
        simple = [self.written, self.named, self.waited, self.heard, self.asked, self.used, self.read]
        within = [self.chosen, self.gone_through] if depth else []
        made = self.dice.choice([*simple, *within, *within])(depth, element, name)
        step = {"name": name, "retry": {"attempts": 100, "wait": 1}, **made}
        if self.dice.random() < 0.15:
            step["when"] = self.dice.choice(["item.n = 3", "item.n > 5", "1 < 2"])
        if self.dice.random() < 0.1:
            step["limit"] = 10_000_000
        return step

    def key(self, name: str, element: str) -> list[str]:
        return [name, *([f"${{{element}_number}}"] if element else []), "${item.id}"]

    def written(self, depth: int, element: str, name: str) -> dict[str, Any]:
        return {"write": {"to": "out", "key": self.key(name, element), "columns": {"N": "${item.n}"}}}

    def named(self, depth: int, element: str, name: str) -> dict[str, Any]:
        return {"set": {"x": "${item.n * 2}", "y": f"${{{element}}}" if element else 1}}

    def read(self, depth: int, element: str, name: str) -> dict[str, Any]:
        return {"read": {}}

    def waited(self, depth: int, element: str, name: str) -> dict[str, Any]:
        return {"wait": {"for": self.dice.choice([1, "PT2H", "P3D"])}}

    def heard(self, depth: int, element: str, name: str) -> dict[str, Any]:
        return {"wait": {"event": name, "until": "event.n > 1", "every": 50}}

    def asked(self, depth: int, element: str, name: str) -> dict[str, Any]:
        return {"ask": {"question": "Go on?", "options": [{"name": "yes", "label": "Yes"}]}}

    def used(self, depth: int, element: str, name: str) -> dict[str, Any]:
        return {"use": {"flow": "other", "given": {"n": "${item.n}"}}}

    def chosen(self, depth: int, element: str, name: str) -> dict[str, Any]:
        conditions = ["item.n = 3", "item.n > 5", "item.n < 9", "missing_thing = 1"]
        cases = [
            {"when": self.dice.choice(conditions), "null_means": False, "steps": self.block(depth - 1, element)}
            for _ in range(self.dice.randint(1, 2))
        ]
        return {"choose": {"take": self.dice.choice(["first", "all"]), "cases": cases, "otherwise": self.block(depth - 1, element)}}

    def gone_through(self, depth: int, element: str, name: str) -> dict[str, Any]:
        inner = f"e{name}"
        return {
            "each": {
                "of": f"${{{self.dice.choice(self.lists)}}}",
                "as": inner,
                "at_once": self.dice.choice([0, 1, 2]),
                "on_failure": self.dice.choice(["stop", "go on", "gather"]),
                "steps": [
                    {
                        "name": f"w{inner}",
                        "retry": {"attempts": 100, "wait": 1},
                        "write": {"to": "out", "key": [inner, f"${{{inner}_number}}"], "columns": {"N": f"${{{inner}}}"}},
                    },
                    *self.block(depth - 1, inner),
                ],
            }
        }


def flow_of(seed: int) -> Flow:
    steps = Maker(random.Random(seed)).block(2)
    data = {
        "metrikon": 1,
        "name": "any",
        "intakes": [{"kind": "upload"}],
        "destinations": {"out": {"kind": "sql", "url": "sqlite:///out.db", "table": "rows"}},
        "steps": steps,
    }
    return flow_from(data, kinds().language)


class World:
    """What the engine and everything outside do with a run. Without dice all goes well at once; with them much goes wrong first."""

    def __init__(self, flow: Flow, dice: random.Random | None) -> None:
        self.flow, self.dice = flow, dice
        self.now = BEGAN
        self.journal: list[Entry] = []
        self.rows: dict[str, Mapping[str, Any]] = {}
        self.state = State(flow)
        self.left = 60 if dice else 0  # disturbances that are still to come

    def odd(self, share: float) -> bool:
        if self.dice is None or self.left <= 0 or self.dice.random() >= share:
            return False
        self.left -= 1
        return True

    def note(self, entry: Entry) -> list[Effect]:
        self.now += 1
        entry = Entry(entry.event, entry.path, entry.data, self.now)
        self.journal.append(entry)
        self.state, effects = advance(self.state, entry)
        if self.odd(0.1):
            self.journal.append(entry)  # it comes twice
            self.state, more = advance(self.state, entry)
            effects = (*effects, *more)
        return list(effects)

    def replayed(self) -> list[Effect]:
        """The run is taken up by another worker, from its journal alone."""
        fresh = replayed(State(self.flow), self.journal)
        assert fresh == self.state
        self.state = fresh
        return list(todo(fresh, self.now))

    def play(self) -> State:
        effects = self.note(Entry("started", "", START))
        for _ in range(5000):
            if self.state.outcome is not None:
                return self.state
            if not effects or self.odd(0.15):
                self.now += 1
                effects = self.replayed()
                if not any(isinstance(each, Perform | Wake | Late | Listen) for each in effects):
                    self.wait_for(effects)
                    effects = self.replayed()
            elif self.dice is not None:
                self.dice.shuffle(effects)
            if effects:
                effects += self.done(effects.pop(0))
        raise AssertionError("it never comes to its end")

    def wait_for(self, effects: list[Effect]) -> None:
        """Nothing is to be done now: a person answers, a time comes, or a parked run is continued."""
        asked = [path for path, step in self.state.open.items() if step.status == "asked"]
        if asked:
            self.note(Entry("answered", asked[0], {"decision": "answer", "result": {"answer": "yes"}}))
            return
        begun = [path for path, step in self.state.open.items() if step.status == "begun"]
        if begun:
            self.end(begun[0])
            return
        dues = [each.due for each in effects if isinstance(each, Again)]
        if dues:
            self.now = max(self.now, min(dues))
            return
        self.note(Entry("continued"))

    def done(self, effect: Effect) -> list[Effect]:
        if isinstance(effect, Perform):
            return self.perform(effect)
        if isinstance(effect, Wake):
            return self.note(Entry("woken", effect.path))
        if isinstance(effect, Late):
            return self.note(Entry("late", effect.path))
        if isinstance(effect, Listen):
            return self.note(Entry("came", effect.path, {"data": {"n": 1 if self.odd(0.3) else 2}}))
        assert isinstance(effect, Again | AskPerson | Park | Settle)
        return []

    def perform(self, effect: Perform) -> list[Effect]:
        step = self.state.open.get(effect.path)
        if step is None or step.status == "asked":
            return []
        found = [] if effect.begun else self.note(Entry("begun", effect.path)) if effect.step.kind.outward or effect.step.kind.awaited else []
        if self.odd(0.2):
            return found  # the worker stalls: nobody knows how it ended
        if self.odd(0.2):
            return [*found, *self.note(Entry("failed", effect.path, {"message": "down", "again": True, "at": self.now, "jitter": 1}))]
        if effect.step.kind.name == "ask":
            return [*found, *self.note(Entry("asked", effect.path, {"result": {"question": "q"}}))]
        return [*found, *self.end(effect.path)]

    def end(self, path: str) -> list[Effect]:
        step = self.state.open[path]
        if step.step.kind.name == "write":
            key = str(step.filled["key"])
            assert self.rows.setdefault(key, step.filled["columns"]) == step.filled["columns"]
        return self.note(Entry("done", path, {"result": {"of": step.step.name}}))


@settings(max_examples=150, deadline=None)
@given(st.integers(0, 10**9), st.integers(0, 10**9))
@example(467, 31)  # begun twice
def test_a_disturbed_run_ends_with_the_rows_of_one_that_nothing_disturbed(seed: int, chance: int) -> None:
    calm = World(flow_of(seed), None)
    wanted = calm.play()
    rough = World(flow_of(seed), random.Random(chance))
    found = rough.play()
    assert (found.outcome, found.reason) == (wanted.outcome, wanted.reason)
    assert rough.rows == calm.rows
    assert set(found.frames[""].scope) == set(wanted.frames[""].scope)
