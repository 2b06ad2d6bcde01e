"""A run is a fold: `advance(state, entry) → (state, effects)`. Pure.

The journal's entries go in one by one; what must be done next comes out. Replaying a journal gives
the same state as living it did. State is shared, not copied: a step costs the same however many
came before it. Control steps (`choose`, `each`, `stop`) are walked here; they have no entries of
their own, since they follow from what was journaled.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import msgspec
from immutables import Map
from msgspec.structs import replace

from metrikon.core.feel import BadExpression, FeelError, evaluate, fill
from metrikon.core.flows.kinds import Choose, Each, Step
from metrikon.core.flows.model import Flow

MOST_ELEMENTS = 20_000  # of a list that `each` goes through


@dataclass(frozen=True)
class Entry:
    """One entry of a journal. A "failed" one says when (`at`, milliseconds since 1970), so that what waits knows until when.

    `event`: "started", "begun", "done", "failed", "asked", "answered", "continued" or "cancelled".
    `path`: the step instance it concerns, such as lines[3]/row; empty for the run as a whole.
    """

    event: str
    path: str = ""
    data: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Perform:
    """Do a step. `begun`: an attempt was begun before and its end is not known. `attempt` counts from 1."""

    path: str
    step: Step
    parameters: Mapping[str, Any]
    attempt: int
    begun: bool = False


@dataclass(frozen=True)
class Again:
    """Try a step again at a moment (milliseconds since 1970)."""

    path: str
    due: int


@dataclass(frozen=True)
class Park:
    """The run cannot go on by itself: `reason` says why and what to do."""

    path: str
    reason: str


@dataclass(frozen=True)
class Ask:
    """A person must answer before the run goes on."""

    path: str


@dataclass(frozen=True)
class Settle:
    """The run has come to its end: "done", "stopped" or "refused"."""

    outcome: str
    reason: str = ""


Effect = Perform | Again | Park | Ask | Settle


class Frame(msgspec.Struct, frozen=True):
    """A block of steps being walked: which step is next, and what its names hold."""

    prefix: str
    parent: str | None  # prefix of the frame around it
    steps: tuple[Step, ...]
    scope: Map[str, Any]
    at: int = 0


class Open(msgspec.Struct, frozen=True):
    """A step instance that is not done: its parameters and how its tries went."""

    frame: str
    step: Step
    parameters: Mapping[str, Any]
    failures: int = 0
    status: str = "ready"  # "ready", "begun", "waiting", "parked", "asked"
    reason: str = ""  # why it is parked
    due: int = 0  # when it is tried again, while it is waiting


class Loop(msgspec.Struct, frozen=True):
    """An `each` being gone through: how many elements there are, how many are not yet through, and why some were refused."""

    count: int
    left: int
    refused: tuple[str, ...] = ()


class State(msgspec.Struct, frozen=True):
    """Where a run stands."""

    flow: Flow
    frames: Map[str, Frame] = Map()
    open: Map[str, Open] = Map()
    loops: Map[str, Loop] = Map()  # by the path of an `each`
    refused: tuple[str, ...] = ()  # what was said of the elements of all loops that were refused, while others went on
    outcome: str | None = None
    reason: str = ""


def advance(state: State, entry: Entry) -> tuple[State, tuple[Effect, ...]]:
    """The state after an entry, and what must be done because of it.

    An entry for a step that is not open (a repeated "done", a late answer) changes nothing.
    """
    if state.outcome is not None and entry.event != "continued":
        return state, ()
    if entry.event == "started":
        return _started(state, entry.data)
    if entry.event == "continued":
        return _continued(state)
    if entry.event == "cancelled":
        reason = str(entry.data.get("reason", ""))
        return replace(state, outcome="stopped", reason=reason, open=Map()), (Settle("stopped", reason),)
    step = state.open.get(entry.path)
    if step is None:
        return state, ()
    if entry.event == "begun":
        return _with_open(state, entry.path, replace(step, status="begun")), ()
    if entry.event == "done":
        return _done(state, entry.path, step, entry.data.get("result"))
    if entry.event == "failed":
        return _failed(state, entry.path, step, entry.data)
    if entry.event == "asked":
        return _with_open(state, entry.path, replace(step, status="asked")), (Ask(entry.path),)
    if entry.event == "answered":
        return _answered(state, entry.path, step, entry.data)
    return state, ()


def todo(state: State, now: int) -> tuple[Effect, ...]:
    """What must be done from a state as it stands at a moment, after a replay; whatever woke the run, a step waits as long as it must."""
    if state.outcome is not None:
        return (Settle(state.outcome, state.reason),)
    wanted = ((path, step) for path, step in in_order(state) if step.status in ("ready", "begun", "waiting"))
    return tuple(Again(path, step.due) if step.status == "waiting" and step.due > now else _perform(path, step) for path, step in wanted)


def in_order(state: State) -> list[tuple[str, Open]]:
    """Open steps in the order of the flow's lists: lines[2] before lines[10]."""
    return sorted(state.open.items(), key=lambda each: _natural(each[0]))


def _natural(path: str) -> list[tuple[int, str]]:
    parts = path.replace("[", "\0").replace("]", "\0").split("\0")
    return [(int(part), "") if part.isdigit() else (0, part) for part in parts]


def _perform(path: str, step: Open) -> Perform:
    return Perform(path, step.step, step.parameters, step.failures + 1, step.status == "begun")


def _started(state: State, data: Mapping[str, Any]) -> tuple[State, tuple[Effect, ...]]:
    scope = Map({"item": data.get("item", {}), "run": data.get("run", {})})
    frame = Frame("", None, tuple(state.flow.steps), scope)
    return _walk(replace(state, frames=state.frames.set("", frame)), "")


def _walk(state: State, prefix: str) -> tuple[State, tuple[Effect, ...]]:
    """Enter the next step of a frame; blocks that come to their end hand on to the one around them."""
    frame = state.frames[prefix]
    if frame.at >= len(frame.steps):
        return _frame_done(state, frame)
    step = frame.steps[frame.at]
    path = f"{prefix}{step.name}"
    if step.choose:
        return _choose(state, frame, step.choose, path)
    if step.each:
        return _each(state, frame, step.each, path)
    missing: list[str] = []
    try:
        values = fill(step.plain, frame.scope, missing)
    except (BadExpression, FeelError) as error:
        return _parked(state, path, frame, step, f"A value could not be worked out: {error}")
    if step.stop:
        return replace(state, outcome="stopped", reason=str(values["reason"]), open=Map()), (Settle("stopped", str(values["reason"])),)
    problem = _incomplete(step, values, missing)
    if problem:
        return _parked(state, path, frame, step, problem)
    opened = Open(prefix, step, values)
    return _with_open(state, path, opened), (_perform(path, opened),)


def _incomplete(step: Step, values: Mapping[str, Any], missing: list[str]) -> str:
    """Why a step cannot be done with these values, or nothing."""
    names = ", ".join(missing)
    if step.write and any(part is None for part in values["key"]):
        return f"The key of the row is not complete: {names or 'a part of it'} has no value. Correct the record or the flow, then continue."
    for name in ("file", "document", "record"):
        if name in values and values[name] is None:
            return f"{name} has no value: {names} is missing. Correct the flow, then continue."
    return ""


def _choose(state: State, frame: Frame, choose: Choose, path: str) -> tuple[State, tuple[Effect, ...]]:
    step = frame.steps[frame.at]
    for number, case in enumerate(choose.cases):
        missing: list[str] = []
        try:
            holds = evaluate(case.when, frame.scope, missing)
        except (BadExpression, FeelError) as error:
            return _parked(state, path, frame, step, f"The condition {case.when!r} could not be worked out: {error}")
        if holds is None:
            holds = case.null_means
        if not isinstance(holds, bool):
            what = f"{', '.join(missing)} has no value" if missing else "it is neither true nor false"
            return _parked(
                state,
                path,
                frame,
                step,
                f"The condition {case.when!r} came out null: {what}. Correct the record, or say in the flow what null means.",
            )
        if holds:
            return _enter(state, frame, f"{path}[{number + 1}]/", tuple(case.steps))
    if not choose.otherwise:
        return _next(state, frame, None)
    return _enter(state, frame, f"{path}[otherwise]/", tuple(choose.otherwise))


def _enter(state: State, frame: Frame, prefix: str, steps: tuple[Step, ...]) -> tuple[State, tuple[Effect, ...]]:
    inner = Frame(prefix, frame.prefix, steps, frame.scope)
    return _walk(replace(state, frames=state.frames.set(prefix, inner)), prefix)


def _each(state: State, frame: Frame, each: Each, path: str) -> tuple[State, tuple[Effect, ...]]:
    step = frame.steps[frame.at]
    missing: list[str] = []
    try:
        items = fill(each.of, frame.scope, missing)
    except (BadExpression, FeelError) as error:
        return _parked(state, path, frame, step, f"The list could not be worked out: {error}")
    if not isinstance(items, list):
        names = ", ".join(missing)
        return _parked(
            state, path, frame, step, f"There is no list to go through: {names or each.of} has no value. Correct the record, then continue."
        )
    if len(items) > MOST_ELEMENTS:
        return _parked(state, path, frame, step, f"The list has {len(items)} elements; at most {MOST_ELEMENTS} are gone through.")
    if not items:
        return _next(state, frame, [])
    state = replace(state, loops=state.loops.set(path, Loop(len(items), len(items))))
    effects: list[Effect] = []
    for number, item in enumerate(items, 1):
        prefix = f"{path}[{number}]/"
        scope = frame.scope.set(each.name, item).set(f"{each.name}_number", number)
        inner = Frame(prefix, frame.prefix, tuple(each.steps), scope)
        state, more = _walk(replace(state, frames=state.frames.set(prefix, inner)), prefix)
        effects.extend(more)
        if state.outcome is not None:
            break
    return state, tuple(effects)


def _frame_done(state: State, frame: Frame) -> tuple[State, tuple[Effect, ...]]:
    if frame.parent is None:
        reason = "; ".join(state.refused)
        return replace(state, outcome="done", reason=reason), (Settle("done", reason),)
    state = replace(state, frames=state.frames.delete(frame.prefix))
    path = _loop_of(state, frame)
    return _through(state, path, None) if path else _next(state, state.frames[frame.parent], None)


def _loop_of(state: State, frame: Frame) -> str | None:
    """The path of the `each` of which a frame is an element."""
    if frame.parent is None:
        return None
    parent = state.frames[frame.parent]
    path = f"{parent.prefix}{parent.steps[parent.at].name}"
    return path if path in state.loops else None


def _through(state: State, path: str, refused: str | None) -> tuple[State, tuple[Effect, ...]]:
    """An element of a loop is through, or was refused; after the last one the run goes on, unless all were refused."""
    loop = state.loops[path]
    loop = replace(loop, left=loop.left - 1, refused=(*loop.refused, refused) if refused is not None else loop.refused)
    if loop.left:
        return replace(state, loops=state.loops.set(path, loop)), ()
    state = replace(state, loops=state.loops.delete(path))
    holder = state.frames[path.rpartition("/")[0] + "/" if "/" in path else ""]
    if loop.refused and len(loop.refused) == loop.count:
        return _refused(state, holder, "; ".join(dict.fromkeys(loop.refused)))
    if loop.refused:
        told = f"{len(loop.refused)} of {loop.count} {'was' if len(loop.refused) == 1 else 'were'} refused: {'; '.join(dict.fromkeys(loop.refused))}"
        state = replace(state, refused=(*state.refused, told))
    return _next(state, holder, None)


def _refused(state: State, frame: Frame, reason: str) -> tuple[State, tuple[Effect, ...]]:
    """What a frame does is refused: its element of the nearest loop ends, the others go on; without a loop the run does."""
    while frame.parent is not None and _loop_of(state, frame) is None:
        frame = state.frames[frame.parent]
    path = _loop_of(state, frame)
    if path is None:
        return replace(state, outcome="refused", reason=reason, open=Map()), (Settle("refused", reason),)
    frames = Map({prefix: each for prefix, each in state.frames.items() if not prefix.startswith(frame.prefix)})
    opened = Map({at: step for at, step in state.open.items() if not step.frame.startswith(frame.prefix)})
    loops = Map({at: each for at, each in state.loops.items() if not at.startswith(frame.prefix)})
    return _through(replace(state, frames=frames, open=opened, loops=loops), path, reason)


def _next(state: State, frame: Frame, result: Any) -> tuple[State, tuple[Effect, ...]]:
    """The step at which a frame stands is through: keep its result and go on."""
    name = frame.steps[frame.at].name
    moved = replace(frame, scope=frame.scope.set(name, result), at=frame.at + 1)
    return _walk(replace(state, frames=state.frames.set(frame.prefix, moved)), frame.prefix)


def _done(state: State, path: str, step: Open, result: Any) -> tuple[State, tuple[Effect, ...]]:
    state = replace(state, open=state.open.delete(path))
    return _next(state, state.frames[step.frame], result)


def _failed(state: State, path: str, step: Open, data: Mapping[str, Any]) -> tuple[State, tuple[Effect, ...]]:
    failures = step.failures + 1
    retry = step.step.retry
    if data.get("refused"):
        reason = str(data.get("message", ""))
        return replace(state, outcome="refused", reason=reason, open=Map()), (Settle("refused", reason),)
    if data.get("again") and failures < retry.attempts:
        wait = min(retry.longest, retry.wait * 2 ** (failures - 1))
        asked = data.get("wait")
        wait = max(wait, float(asked)) if asked is not None else wait
        due = int(data.get("at", 0)) + int(wait * 1000 * float(data.get("jitter", 1)))
        return _with_open(state, path, replace(step, failures=failures, status="waiting", due=due)), (Again(path, due),)
    reason = str(data.get("message", ""))
    parked = replace(step, failures=failures, status="parked", reason=reason)
    return _with_open(state, path, parked), (Park(path, reason),)


def _parked(state: State, path: str, frame: Frame, step: Step, reason: str) -> tuple[State, tuple[Effect, ...]]:
    """A step that could not even be entered; "continued" tries to enter it again."""
    return _with_open(state, path, Open(frame.prefix, step, {}, status="parked", reason=reason)), (Park(path, reason),)


def _continued(state: State) -> tuple[State, tuple[Effect, ...]]:
    """Parked steps are tried again from the start, as often as before."""
    if state.outcome is not None:
        return state, ()
    effects: list[Effect] = []
    for path, step in in_order(state):
        if step.status not in ("parked", "waiting"):
            continue
        if step.parameters:
            fresh = replace(step, failures=0, status="ready", reason="")
            state = _with_open(state, path, fresh)
            effects.append(_perform(path, fresh))
        else:
            state, more = _walk(replace(state, open=state.open.delete(path)), step.frame)
            effects.extend(more)
    return state, tuple(effects)


def _answered(state: State, path: str, step: Open, data: Mapping[str, Any]) -> tuple[State, tuple[Effect, ...]]:
    if data.get("decision") == "refuse":
        return _refused(state, state.frames[step.frame], f"Refused by {data.get('by', 'a person')}: {data.get('comment') or 'no reason given'}")
    return _done(state, path, step, data.get("result"))


def _with_open(state: State, path: str, step: Open) -> State:
    return replace(state, open=state.open.set(path, step))
