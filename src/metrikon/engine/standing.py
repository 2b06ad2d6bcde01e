"""Where a run stands when nothing more can be done: in words for people, and until when."""

from __future__ import annotations

from datetime import datetime, tzinfo
from typing import Any

from metrikon.core.flows.fold import in_order
from metrikon.core.flows.state import Open, State

MOST_REASONS = 3  # that are told of a run that is parked


def where(state: State, now: int, asks: str) -> tuple[str, str, int | None]:
    """The state that a run is put into, why, and when it is looked at again (milliseconds since 1970). `asks`: what a person must look at."""
    if state.outcome is not None:
        return state.outcome, state.reason, None
    statuses = {step.status for step in state.open.values()}
    if "asked" in statuses:
        return "review", asks or "A person must look at the record.", _next_moment(state)
    undecided = any(step.status == "parked" and step.unsure is not None for step in state.open.values())
    if undecided and statuses <= {"parked", "begun"}:  # what comes after it may wait for it: a person is told at once
        return "parked", _all_reasons([step.reason for _, step in in_order(state) if step.status == "parked" and step.reason]), None
    if "waiting" in statuses or "begun" in statuses or "ready" in statuses:
        begun = next((step.step.kind.waits for step in state.open.values() if step.status == "begun"), "")
        told = next((_tried_again(state, step) for step in state.open.values() if step.status == "waiting" and step.reason), "")
        return "waiting", begun or told or "A step is tried again.", now if "ready" in statuses else _next_moment(state)
    return "parked", _all_reasons([step.reason for _, step in in_order(state) if step.reason]), None


def _tried_again(state: State, step: Open) -> str:
    """Why a step waits; of one that has failed also until when."""
    if not step.failures or not step.due:
        return step.reason
    return tried_again(step.reason, step.failures, step.due, state.flow.zone)


def tried_again(reason: str, failures: int, due: int, zone: tzinfo) -> str:
    """Why something waits that has failed, and until when (milliseconds since 1970)."""
    at = datetime.fromtimestamp(due / 1000, zone)
    return f"{reason} It has failed {'once' if failures == 1 else f'{failures} times'}, and is tried again at {at:%H:%M:%S}."


def _all_reasons(reasons: list[str]) -> str:
    """Why a run is parked: what is in the way of each of its steps that cannot go on."""
    if len(reasons) < 2:
        return reasons[0] if reasons else "It cannot go on by itself."
    different = list(dict.fromkeys(reasons))
    more = f" And {len(different) - MOST_REASONS} more." if len(different) > MOST_REASONS else ""
    return f"{len(reasons)} steps cannot go on: {' '.join(different[:MOST_REASONS])}{more}"


def result_of(state: State) -> Any:
    """What a flow gives to the one that uses it: what its step named `result` gave."""
    frame = state.frames.get("")
    return frame.scope.get("result") if frame is not None else None


def _next_moment(state: State) -> int | None:
    """When the next step of a run comes due, or its time is over."""
    dues = [step.due for step in state.open.values() if step.status == "waiting" and step.due]
    lates = [step.late for step in state.open.values() if step.status != "parked" and step.late]
    return min([*dues, *lates], default=None)
