"""One turn of the fold: the state as it becomes, and what must be done because of it. Control kinds move a run about with it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from decimal import Decimal
from typing import Any

import msgspec
from immutables import Map
from msgspec.structs import replace

from metrikon.core.flows.corrected import all_corrected
from metrikon.core.flows.evaluating import CannotGoOn, Evaluating, Here
from metrikon.core.flows.model import Step
from metrikon.core.flows.state import Again, AskPerson, Frame, Listen, Open, Park, Perform, State
from metrikon.core.flows.words import told_duration

MOST_TOLD = 5  # that a run tells of results when it is done: what is more stands in its journal
FAILED = "failed"  # the label of the block that is done when a step has failed
REFUSED = "refused"  # of the block that is done when a person has refused what a step put before them
OWN = (FAILED, REFUSED)  # blocks that are none of those that a control kind goes through
FLOW_FAILED = "on_failure/"  # the prefix of the block that a flow does when one of its steps has failed


class Failed(msgspec.Struct, frozen=True):
    """A step that cannot go on. `at`: where steps for that stand, the step itself or one around it; `path`: its own; `refused`: it never will."""

    at: Here
    path: str
    step: Open
    reason: str
    refused: bool = False


class Walk(Evaluating):
    """Goes on from a state until something must be done outside."""

    def __init__(self, state: State) -> None:
        super().__init__(state)
        self._agenda: list[str] = []

    # ---- for the fold

    def run(self) -> None:
        """Walk on in all frames that may go on."""
        while self._agenda and self.outcome is None:
            frame = self.frames.get(self._agenda.pop())
            if frame is not None:
                self._next_in(frame)

    def start(self, scope: Mapping[str, Any], corrected: Mapping[str, Mapping[str, Any]]) -> None:
        """Begin with the first step of the flow. `corrected`: values of results, by the path of the step and that within them."""
        self.corrected = corrected
        self.put(Frame("", None, tuple(self.flow.steps), Map(scope)))
        self._agenda.append("")

    def here(self, frame: Frame) -> Here:
        """The step that a frame stands at."""
        step = frame.steps[frame.at]
        return Here(frame, step, f"{frame.prefix}{step.name}")

    def _next_in(self, frame: Frame) -> None:
        if frame.at >= len(frame.steps):
            self._block_done(frame)
            return
        here = self.here(frame)
        try:
            if here.step.common.when is not None and not self.holds(here, here.step.common.when, here.step.common.null_means):
                self.go_on(here, None)
            elif here.step.kind.control is not None:
                here.step.kind.control.enter(self, here)
            else:
                self._open(here)
        except CannotGoOn as error:
            self._stuck(here, Open(frame.prefix, here.step, {}), str(error))

    def _open(self, here: Here) -> None:
        values, _ = self.filled(here, here.step.plain)
        problem = here.step.kind.incomplete(values, self.missing(here))
        if problem:
            raise CannotGoOn(problem)
        opened = Open(here.frame.prefix, here.step, values, late=self._limit(here), since=self.now)
        self.set_open(here.path, opened)
        self.effects.append(perform(here.path, opened, here.frame.scope))

    def _limit(self, here: Here) -> int:
        """When the time that a step may take is over; 0: never."""
        seconds = here.step.common.seconds
        return self.now + int(seconds * 1000) if seconds is not None else 0

    def begun(self, path: str, step: Open) -> None:
        """An attempt was begun, and its end is not known yet."""
        self.set_open(path, replace(step, status="begun"))
        self._until_late(path, step)

    def _until_late(self, path: str, step: Open) -> None:
        if step.late:
            self.effects.append(Again(path, step.late))

    def late(self, path: str, step: Open) -> None:
        """The time that a step may take is over: it gives what its kind says for that, or has failed."""
        kind = step.step.kind
        result = kind.late(step.filled, self.moment()) if kind.late is not None else None
        if result is not None:
            self.done(path, step, result)
            return
        self._stuck(
            self.here(self.frames[step.frame]),
            replace(step, late=0),
            f"It took longer than its limit of {told_duration(step.step.common.limit)}.{_looked(step)}",
        )

    def woken(self, path: str, step: Open, data: Mapping[str, Any]) -> None:
        """The moment or the event that a step waits for has come."""
        control = step.step.kind.control
        if control is None:
            return
        here = self.here(self.frames[step.frame])
        try:
            control.woken(self, here, step, data)
        except CannotGoOn as error:
            self._stuck(here, step, str(error))

    def wait(self, here: Here, parameters: Mapping[str, Any], due: int, key: str = "", reason: str = "") -> None:
        """The step waits for a moment (0: none), for an event with a key, or both."""
        known = self.open.get(here.path)
        late = known.late if known is not None else self._limit(here)
        opened = Open(here.frame.prefix, here.step, parameters, status="waiting", reason=reason, due=due, late=late, key=key)
        self.set_open(here.path, opened)
        if key:
            self.effects.append(Listen(here.path, key))
        self.effects += [Again(here.path, each) for each in (due, late) if each]

    def _block_done(self, frame: Frame) -> None:
        if frame.parent is None:
            self._after_flow_failure() if frame.label == FAILED else self.settle("done", "; ".join(self.told))
            return
        around = self.here(self.frames[frame.parent])
        del self.frames[frame.prefix]
        self._through(around, frame.label, {name: frame.scope[name] for name in frame.made})

    def _through(self, around: Here, label: str, given: dict[str, Any]) -> None:
        """A block within a step has come to its end."""
        if label == FAILED:
            self._after_failure(around)
        elif label == REFUSED:
            self.refuse(around.frame, self.drop(f"{around.path}[{REFUSED}]"))
        elif around.step.kind.control is not None:
            around.step.kind.control.through(self, around, label, given)

    def done(self, path: str, step: Open, result: Any) -> None:
        """A step has come to its end."""
        del self.open[path]
        self.tell_of(step.step, result)
        self.go_on(self.here(self.frames[step.frame]), result)

    def there(self, path: str, result: Any) -> bool:
        """Whether what a step gave is what it is done again for. Raises `CannotGoOn` where that cannot be worked out."""
        step = self.open[path]
        until = step.step.common.until
        return until is None or self.holds(self.here(self.frames[step.frame]), until.holds, False, {step.step.name: result})

    def looked(self, path: str, step: Open, data: Mapping[str, Any]) -> None:
        """A step was done, and its condition does not hold yet: it is done again later, or has failed."""
        until, looks = step.step.common.until, int(data["look"])
        if until is None:
            return
        known = replace(step, failures=0, failed_since=0, looks=looks)
        if looks >= until.times:
            self._stuck(self.here(self.frames[step.frame]), known, f"It was done {looks} times, and it still does not hold that {until.holds}.")
            return
        due = int(data["at"]) + int(until.seconds(looks) * 1000 * float(data.get("jitter", 1)))
        reason = f"It is not there yet: {looks} {'look' if looks == 1 else 'looks'} so far. It is looked for again until {until.holds}."
        self.set_open(path, replace(known, status="waiting", due=due, reason=reason))
        self.effects.append(Again(path, due))

    def tell_of(self, step: Step, result: Any) -> None:
        """A result may be worth telling when the run is done; of many alike the first ones are told."""
        said = step.kind.told(result) if step.kind.told is not None else ""
        if said and said not in self.told and len(self.told) < MOST_TOLD:
            self.tell(said)

    def fail(self, path: str, step: Open, data: Mapping[str, Any]) -> None:
        """A step has failed: it is tried again, or has failed for good."""
        turn = bool(data.get("turn"))  # it was only not its turn
        failures, message = step.failures + (0 if turn else 1), str(data.get("message", ""))
        here = self.here(self.frames[step.frame])
        if data.get("unsure") is not None:
            self.set_open(path, replace(step, failures=failures, status="parked", reason=message, unsure=data["unsure"]))
            self.effects.append(Park(path, message))
            return
        if data.get("otherwise") is not None:
            self.set_open(path, replace(step, failures=failures, status="parked", reason=message, otherwise=data["otherwise"]))
            self.effects.append(Park(path, message))
            return
        if data.get("first"):
            self.set_open(path, replace(step, status="parked", reason=message, first=True))
            self.effects.append(Park(path, message))
            return
        if data.get("refused"):
            self._stuck(here, replace(step, failures=failures), message, refused=True)
            return
        retry, at = step.step.common.retry, int(data.get("at", 0))
        since = step.failed_since or at
        if turn or (data.get("again") and not retry.over(str(data.get("cause", "")), failures, (at - since) / 1000)):
            wait = 0.0 if turn else retry.pause(str(data.get("cause", "")), failures)
            asked = data.get("wait")
            wait = max(wait, float(asked)) if asked is not None else wait
            due = at + int(wait * 1000 * float(data.get("jitter", 1)))
            self.set_open(path, replace(step, failures=failures, failed_since=0 if turn else since, status="waiting", due=due, reason=message))
            self.effects.append(Again(path, due))
            return
        self._stuck(here, replace(step, failures=failures), message)

    def _stuck(self, here: Here, step: Open, reason: str, *, refused: bool = False) -> None:
        """A step cannot go on: its own steps for that are done, or whoever is around deals with it, or the run is parked.

        `refused`: what it works on can never be worked on, so that nothing is gained by trying again.
        """
        if self._own_steps(Failed(here, here.path, step, reason, refused)):
            return
        if refused:
            self.close(here.path)
            self.refuse(here.frame, reason, Failed(here, here.path, step, reason, refused=True))
        else:
            self._park(here.frame, Failed(here, here.path, step, reason))

    def _own_steps(self, failed: Failed) -> bool:
        """Begin with the steps that a step has for its failure, or for that of one within it; whether it has any. Until they are done nobody continues what failed."""
        at, failure = failed.at, failed.at.step.common.on_failure
        if failure is None or at.block(FAILED) in self.frames:
            return False
        self.close(failed.path)
        self.hold(f"{at.path}[{FAILED}]", failed)
        self.inside(at, FAILED, failure.steps, {"failure": self._told_of(failed)})
        return True

    def _told_of(self, failed: Failed) -> dict[str, Any]:
        link = self.frames[""].scope["run"].get("link", "")
        attempts = Decimal(failed.step.failures)
        return {"step": failed.step.step.name, "path": failed.path, "message": failed.reason, "attempts": attempts, "link": link}

    def _after_failure(self, around: Here) -> None:
        failure, failed = around.step.common.on_failure, self.drop(f"{around.path}[{FAILED}]")
        assert failure is not None
        if failure.then == "go on":
            values, _ = self.filled(around, {"result": failure.result})
            if failed.path != around.path:  # what was done within it is left as it stands
                self.leave(f"{around.path}[")
                self.held.pop(around.path, None)
            self.go_on(around, values["result"])
        elif failure.then == "end":
            self.settle("stopped", failed.reason)
        elif failed.refused:
            self.refuse(around.frame, failed.reason, failed)
        else:
            self._park(around.frame, failed)

    def _park(self, frame: Frame, failed: Failed) -> None:
        """A step cannot go on: whoever is around its frame deals with it, from the inside to the outside, or it waits for a person."""
        self.set_open(failed.path, replace(failed.step, status="parked", reason=failed.reason))
        while frame.parent is not None:
            around = self.here(self.frames[frame.parent])
            if frame.label not in OWN and around.step.kind.control is not None:
                dealt = around.step.kind.control.failed(self, around, frame, failed.reason)
                if dealt == "dealt":
                    return
                if dealt == "person":
                    break
                if self._own_steps(replace(failed, at=around)):
                    return
            frame = self.frames[frame.parent]
        self.effects.append(Park(failed.path, failed.reason))

    def flow_failed(self, path: str) -> None:
        """The steps of the flow for a failure are begun: for a step that is parked."""
        if path in self.open and self.flow.head.on_failure is not None and FLOW_FAILED not in self.frames:
            step = self.open[path]
            self._flow_steps(Failed(self.here(self.frames[step.frame]), path, step, step.reason))

    def _flow_steps(self, failed: Failed) -> None:
        failure = self.flow.head.on_failure
        assert failure is not None
        self.hold(FLOW_FAILED, failed)
        scope = {name: value for name, value in self.frames[""].scope.items() if name in ("item", "run", "given", "settings")}
        self.put(Frame(FLOW_FAILED, None, tuple(failure.steps), Map({**scope, "failure": self._told_of(failed)}), label=FAILED))
        self._agenda.append(FLOW_FAILED)

    def _after_flow_failure(self) -> None:
        failure, failed = self.flow.head.on_failure, self.drop(FLOW_FAILED)
        assert failure is not None
        del self.frames[FLOW_FAILED]
        if failed.refused:
            self.settle("refused", failed.reason)
        elif failed.path not in self.open or self.open[failed.path].status != "parked":
            return  # meanwhile it has gone on: a person has continued it
        elif failure.then == "end":
            self.settle("stopped", failed.reason)
        else:
            self.effects.append(Park(failed.path, failed.reason))

    def try_again(self, path: str, step: Open, *, renew: bool = False) -> None:
        """A step that is parked or waits is begun anew, as often as before. `renew`: what is there otherwise is set, or sent again, as a person has said."""
        if step.parameters and step.step.kind.control is None:
            limit = self._limit(self.here(self.frames[step.frame]))
            fresh = replace(
                step,
                failures=0,
                failed_since=0,
                looks=0,
                status="ready",
                reason="",
                late=limit,
                unsure=None,
                otherwise=None,
                first=False,
                renew=renew,
            )
            self.set_open(path, fresh)
            self.effects.append(perform(path, fresh, self.frames[step.frame].scope))
        else:
            del self.open[path]
            self._agenda.append(step.frame)

    def leave_out(self, path: str, step: Open) -> None:
        """A person leaves out what a parked step was for, where something around it goes on without; else it is begun anew."""
        frame = self.frames[step.frame]
        while frame.parent is not None:
            around = self.here(self.frames[frame.parent])
            if around.step.kind.control is not None and around.step.kind.control.left(self, around, frame, step.reason):
                return
            frame = self.frames[frame.parent]
        self.try_again(path, step)

    def refused_by(self, path: str, step: Open, by: str, comment: str) -> None:
        """A person has refused what a step put before them: its own steps for that are done first."""
        here, reason = self.here(self.frames[step.frame]), f"Refused by {by}: {comment or 'no reason given'}"
        steps = next((block for _, name, block in step.step.blocks if name == "on_refusal"), None)
        if steps is None:
            self.refuse(here.frame, reason)
            return
        given = step.filled.get("record")
        refusal = {"by": by, "comment": comment, "record": given.get("record") if isinstance(given, Mapping) else given}
        self.close(path)
        self.hold(f"{path}[{REFUSED}]", reason)
        self.inside(here, REFUSED, steps, {"refusal": refusal})

    def refuse(self, frame: Frame, reason: str, failed: Failed | None = None) -> None:
        """What a frame does is refused: whoever is around deals with it, or the run ends. `failed`: the step that could not be done; none where a person refused."""
        at: Frame = frame
        while at.parent is not None:
            around = self.here(self.frames[at.parent])
            if at.label not in OWN and around.step.kind.control is not None:
                if around.step.kind.control.refused(self, around, at, reason):
                    return
                if failed is not None and self._own_steps(replace(failed, at=around, refused=True)):
                    return
            at = self.frames[at.parent]
        if failed is not None and self.flow.head.on_failure is not None and FLOW_FAILED not in self.frames:
            self._flow_steps(failed)
        else:
            self.settle("refused", reason)

    # ---- for control kinds

    def inside(self, here: Here, label: str, steps: Sequence[Step], names: Mapping[str, Any] | None = None) -> None:
        """Walk a block within a step, with names besides those in scope."""
        frame = here.frame
        prefix, scope = here.block(label), frame.scope.update(names) if names else frame.scope
        self.put(Frame(prefix, frame.prefix, tuple(steps), scope, label=label))
        self._agenda.append(prefix)

    def go_on(self, here: Here, result: Any) -> None:
        """The step is through: its result is kept, and what comes after it is walked."""
        name = here.step.name
        if self.corrected and here.path in self.corrected:
            result = all_corrected(result, self.corrected[here.path])
        frame = replace(here.frame, scope=here.frame.scope.set(name, result), at=here.frame.at + 1, made=(*here.frame.made, name))
        self.put(frame)
        self._agenda.append(frame.prefix)

    def ask(self, path: str, step: Open) -> None:
        """A step waits for a person."""
        self.set_open(path, replace(step, status="asked"))
        self.effects.append(AskPerson(path))
        self._until_late(path, step)

    def later(self, prefixes: Iterable[str]) -> None:
        """Walk on in these frames, in this order."""
        self._agenda.extend(reversed(list(prefixes)))


def perform(path: str, step: Open, scope: Mapping[str, Any]) -> Perform:
    """A step that is to be done."""
    return Perform(path, step.step, step.filled, step.failures + 1, step.status == "begun", step.looks, scope, step.late, step.renew)


def _looked(step: Open) -> str:
    if step.step.common.until is None:
        return ""
    return f" It was done {step.looks} times, and it still does not hold that {step.step.common.until.holds}."


def natural(path: str) -> list[tuple[int, str]]:
    """By what paths are put into the order of the flow's lists: lines[2] before lines[10]."""
    parts = path.replace("[", "\0").replace("]", "\0").split("\0")
    return [(int(part), "") if part.isdecimal() else (0, part) for part in parts]


__all__ = ["CannotGoOn", "Here", "Walk", "natural", "perform"]
