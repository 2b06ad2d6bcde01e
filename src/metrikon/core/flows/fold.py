"""A run is a fold: `advance(state, entry) → (state, effects)`. Pure.

The journal's entries go in one by one; what must be done next comes out. Replaying a journal gives the same state as living it did. State is shared,
not copied: a step costs the same however many came before it. Steps that only move a run about are walked by their kinds and have no entries of
their own, since they follow from what was journaled.
"""

from __future__ import annotations

from immutables import Map
from msgspec.structs import replace

from metrikon.core.flows.state import Again, Ask, Effect, Entry, Frame, Open, Park, Perform, Settle, State
from metrikon.core.flows.walk import Walk, perform


def advance(state: State, entry: Entry) -> tuple[State, tuple[Effect, ...]]:
    """The state after an entry, and what must be done because of it.

    An entry for a step that is not open (a repeated "done", a late answer) changes nothing.
    """
    if state.outcome is not None:
        return state, ()
    walk = Walk(replace(state, now=entry.at) if entry.at else state)
    if entry.event == "started":
        walk.start({"item": entry.data.get("item", {}), "run": entry.data.get("run", {})})
    elif entry.event == "continued":
        for path, step in reversed(in_order(state)):
            if step.status in ("parked", "waiting"):
                walk.try_again(path, step)
        walk.effects.reverse()
    elif entry.event == "cancelled":
        walk.settle("stopped", str(entry.data.get("reason", "")))
    elif entry.path in state.open:
        _to_step(walk, entry, state.open[entry.path])
    return walk.run()


def _to_step(walk: Walk, entry: Entry, step: Open) -> None:
    if entry.event == "begun":
        walk.set_open(entry.path, replace(step, status="begun"))
    elif entry.event == "done":
        walk.done(entry.path, step, entry.data.get("result"))
    elif entry.event == "failed":
        walk.fail(entry.path, step, entry.data)
    elif entry.event == "asked":
        walk.ask(entry.path, step)
    elif entry.event == "answered" and entry.data.get("decision") == "refuse":
        by, why = entry.data.get("by", "a person"), entry.data.get("comment") or "no reason given"
        walk.refuse(walk.state.frames[step.frame], f"Refused by {by}: {why}")
    elif entry.event == "answered":
        walk.done(entry.path, step, entry.data.get("result"))


def todo(state: State, now: int) -> tuple[Effect, ...]:
    """What must be done from a state as it stands at a moment, after a replay; whatever woke the run, a step waits as long as it must."""
    if state.outcome is not None:
        return (Settle(state.outcome, state.reason),)
    wanted = ((path, step) for path, step in in_order(state) if step.status in ("ready", "begun", "waiting"))
    return tuple(Again(path, step.due) if step.status == "waiting" and step.due > now else perform(path, step) for path, step in wanted)


def in_order(state: State) -> list[tuple[str, Open]]:
    """Open steps in the order of the flow's lists: lines[2] before lines[10]."""
    return sorted(state.open.items(), key=lambda each: _natural(each[0]))


def _natural(path: str) -> list[tuple[int, str]]:
    parts = path.replace("[", "\0").replace("]", "\0").split("\0")
    return [(int(part), "") if part.isdigit() else (0, part) for part in parts]


__all__ = ["Again", "Ask", "Effect", "Entry", "Frame", "Map", "Open", "Park", "Perform", "Settle", "State", "advance", "in_order", "todo"]
