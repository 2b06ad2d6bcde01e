"""A run is a fold: `advance(state, entry) → (state, effects)`. Pure.

The journal's entries go in one by one; what must be done next comes out. Replaying a journal gives the same state as living it did. State is shared,
not copied: a step costs the same however many came before it. Steps that only move a run about are walked by their kinds and have no entries of
their own, since they follow from what was journaled.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from metrikon.core.flows.replay import Replay
from metrikon.core.flows.state import Again, Effect, Entry, Late, Listen, Open, Settle, State, Wake
from metrikon.core.flows.walk import CannotGoOn, Walk, natural, perform


def advance(state: State, entry: Entry) -> tuple[State, tuple[Effect, ...]]:
    """The state after an entry, and what must be done because of it.

    An entry for a step that is not open (a repeated "done", a late answer) changes nothing.
    """
    if state.outcome is not None:
        return state, ()
    walk = Walk(state)
    _turn(walk, entry)
    return walk.state(), tuple(walk.effects)


def replayed(state: State, entries: Iterable[Entry]) -> State:
    """The state after entries of a journal that were lived before; what they then asked to be done is not asked again.

    Parameters of steps that came to their end are not filled again, and that they were begun changes nothing: that is most of the work.
    """
    walk = Replay(state)
    for entry in entries:
        if walk.outcome is not None:
            break
        if entry.event == "done" and walk.done_at_once(entry.path, entry.data.get("result"), entry.at):
            continue
        if entry.event not in ("begun", "done") or not walk.reached(entry.path):
            walk.fill_up()
        _turn(walk, entry)
    walk.fill_up()
    return walk.state()


def _turn(walk: Walk, entry: Entry) -> None:
    """One turn of the fold."""
    walk.now = entry.at or walk.now
    if entry.event == "started":
        given = {name: entry.data.get(name, {}) for name in ("item", "run", "given")}
        walk.start({**given, "settings": walk.flow.settings}, entry.data.get("corrected") or {})
    elif entry.event == "continued":
        _continue(walk, Said(bool(entry.data.get("leave")), str(entry.data.get("unsure", "")), str(entry.data.get("otherwise", ""))))
    elif entry.event == "told":
        walk.flow_failed(entry.path)
    elif entry.event == "cancelled":
        walk.settle("stopped", str(entry.data.get("reason", "")))
    elif entry.path in walk.open:
        _to_step(walk, entry, walk.open[entry.path])
    walk.run()


@dataclass(frozen=True)
class Said:
    """What a person says who continues a run.

    `leave`: what is parked is left out where it can be. `unsure`: what may have gone out "went", or is to be done "again". `otherwise`: what is there otherwise is
    to be kept ("keep"), or set or sent again ("renew"). Without these words such steps stay as they are.
    """

    leave: bool = False
    unsure: str = ""
    otherwise: str = ""


def _continue(walk: Walk, said: Said) -> None:
    """What is parked or waits is begun anew, as far as a person has said what is to be done."""
    for path, step in reversed(in_order(walk.state())):
        if path not in walk.open:
            continue  # left out with another one
        if step.status == "parked" and step.otherwise is not None:
            _settle_otherwise(walk, path, step, said.otherwise)
        elif step.status == "parked" and step.unsure is not None and said.unsure != "again":
            if said.unsure == "went":
                walk.done(path, step, step.unsure)
        elif step.status == "parked" and said.leave:
            walk.leave_out(path, step)
        elif step.status in ("parked", "waiting"):
            walk.try_again(path, step)
    walk.effects.reverse()


def _settle_otherwise(walk: Walk, path: str, step: Open, said: str) -> None:
    if said == "keep":
        walk.done(path, step, step.otherwise)
    elif said == "renew":
        walk.try_again(path, step, renew=True)


def _to_step(walk: Walk, entry: Entry, step: Open) -> None:
    if entry.event == "begun":
        walk.begun(entry.path, step)
    elif entry.event == "done":
        walk.done(entry.path, step, entry.data.get("result"))
    elif entry.event == "looked":
        walk.looked(entry.path, step, entry.data)
    elif entry.event == "failed":
        walk.fail(entry.path, step, entry.data)
    elif entry.event == "asked":
        walk.ask(entry.path, step)
    elif entry.event in ("woken", "came"):
        walk.woken(entry.path, step, {**entry.data, "came": "event" if entry.event == "came" else "moment"})
    elif entry.event == "late":
        walk.late(entry.path, step)
    elif entry.event == "answered" and entry.data.get("decision") == "refuse":
        walk.refused_by(entry.path, step, str(entry.data.get("by", "a person")), str(entry.data.get("comment") or ""))
    elif entry.event == "answered":
        walk.done(entry.path, step, entry.data.get("result"))


def there(state: State, path: str, result: Any, now: int) -> bool:
    """Whether what a step gave ends it: what it is done again for, if anything, is there. Raises `CannotGoOn` where that cannot be worked out."""
    walk = Walk(state)
    walk.now = now
    return walk.there(path, result)


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
    return sorted(state.open.items(), key=lambda each: natural(each[0]))


__all__ = ["CannotGoOn", "advance", "in_order", "replayed", "there", "todo"]
