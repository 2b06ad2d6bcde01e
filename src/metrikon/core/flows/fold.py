"""A run is a fold: `advance(state, entry) → (state, effects)`. Pure.

The journal's entries go in one by one; what must be done next comes out. Replaying a journal gives the same state as living it did. State is shared,
not copied: a step costs the same however many came before it. Steps that only move a run about are walked by their kinds and have no entries of
their own, since they follow from what was journaled.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from msgspec.structs import replace

from metrikon.core.flows.state import Again, Effect, Entry, Late, Listen, Open, Settle, State, Wake
from metrikon.core.flows.walk import Walk, perform


def advance(state: State, entry: Entry) -> tuple[State, tuple[Effect, ...]]:
    """The state after an entry, and what must be done because of it.

    An entry for a step that is not open (a repeated "done", a late answer) changes nothing.
    """
    return (state, ()) if state.outcome is not None else _turn(state, entry).run()


def _turn(state: State, entry: Entry, *, lazy: bool = False) -> Walk:
    """One turn of the fold, up to where it is walked on."""
    walk = Walk(replace(state, now=entry.at) if entry.at else state, lazy=lazy)
    if entry.event == "started":
        given = {name: entry.data.get(name, {}) for name in ("item", "run", "given")}
        walk.start({**given, "settings": state.flow.settings}, entry.data.get("corrected") or {})
    elif entry.event == "continued":
        for path, step in reversed(in_order(state)):
            if path not in walk.state.open:
                continue  # left out with another one
            if step.status == "parked" and entry.data.get("leave"):
                walk.leave_out(path, step)
            elif step.status in ("parked", "waiting"):
                walk.try_again(path, step)
        walk.effects.reverse()
    elif entry.event == "cancelled":
        walk.settle("stopped", str(entry.data.get("reason", "")))
    elif entry.path in state.open:
        _to_step(walk, entry, state.open[entry.path])
    return walk


def replayed(state: State, entries: Iterable[Entry]) -> State:
    """The state after entries of a journal that were lived before; what they then asked to be done is not asked again.

    Parameters of steps that came to their end are not filled again, and that they were begun changes nothing: that is most of the work.
    """
    unfilled: list[str] = []
    for entry in _telling(list(entries)):
        if state.outcome is not None:
            return state
        if entry.event not in ("begun", "done") or entry.path not in state.open:
            state, unfilled = _whole(state, unfilled), []
        walk = _turn(state, entry, lazy=True)
        state, _ = walk.run()
        unfilled += walk.unfilled
    return _whole(state, unfilled)


def _whole(state: State, unfilled: list[str]) -> State:
    """The state with the parameters of its open steps filled; whatever follows from that is walked, too."""
    while unfilled:
        opened = [(path, state.open[path]) for path in unfilled if path in state.open]
        walk = Walk(state, lazy=True)
        for path, step in sorted(opened, key=lambda each: _natural(each[0])):
            if path in walk.state.open and walk.state.open[path].parameters is None:
                walk.fill(path, step)
        state, _ = walk.run()
        unfilled = walk.unfilled
    return state


def _telling(entries: list[Entry]) -> Iterator[Entry]:
    """Entries without those that a step was begun of which the next one says that it is done."""
    following: dict[str, str] = {}
    kept = []
    for entry in reversed(entries):
        if entry.event != "begun" or following.get(entry.path) != "done":
            kept.append(entry)
        following[entry.path] = entry.event
    return reversed(kept)


def _to_step(walk: Walk, entry: Entry, step: Open) -> None:
    if entry.event == "begun":
        walk.begun(entry.path, step)
    elif entry.event == "done":
        walk.done(entry.path, step, entry.data.get("result"))
    elif entry.event == "failed":
        walk.fail(entry.path, step, entry.data)
    elif entry.event == "asked":
        walk.ask(entry.path, step)
    elif entry.event in ("woken", "came"):
        walk.woken(entry.path, step, {**entry.data, "came": "event" if entry.event == "came" else "moment"})
    elif entry.event == "late":
        walk.late(entry.path, step)
    elif entry.event == "answered" and entry.data.get("decision") == "refuse":
        by, why = entry.data.get("by", "a person"), entry.data.get("comment") or "no reason given"
        walk.refuse(walk.state.frames[step.frame], f"Refused by {by}: {why}")
    elif entry.event == "answered":
        walk.done(entry.path, step, entry.data.get("result"))


def todo(state: State, now: int) -> tuple[Effect, ...]:
    """What must be done from a state as it stands at a moment, after a replay; whatever woke the run, a step waits as long as it must."""
    if state.outcome is not None:
        return (Settle(state.outcome, state.reason),)
    return tuple(effect for path, step in in_order(state) for effect in _wanted(state, path, step, now))


def _wanted(state: State, path: str, step: Open, now: int) -> Iterator[Effect]:
    if step.status == "parked":
        return
    if step.late:
        yield Late(path) if step.late <= now else Again(path, step.late)
        if step.late <= now:
            return
    if step.status == "waiting":
        if step.key:
            yield Listen(path, step.key)
        if step.due > now:
            yield Again(path, step.due)
        elif step.step.kind.control is None:
            yield perform(path, step, state.frames[step.frame].scope)
        elif step.due:
            yield Wake(path)
    elif step.status in ("ready", "begun"):
        yield perform(path, step, state.frames[step.frame].scope)


def in_order(state: State) -> list[tuple[str, Open]]:
    """Open steps in the order of the flow's lists: lines[2] before lines[10]."""
    return sorted(state.open.items(), key=lambda each: _natural(each[0]))


def _natural(path: str) -> list[tuple[int, str]]:
    parts = path.replace("[", "\0").replace("]", "\0").split("\0")
    return [(int(part), "") if part.isdigit() else (0, part) for part in parts]


__all__ = ["advance", "in_order", "replayed", "todo"]
