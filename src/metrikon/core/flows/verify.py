"""Verifying a flow when it is kept: all that can be found without running it, all at once.

Each problem names the step, the place in it, what is wrong and what to do. What a kind alone knows, its declaration says.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from metrikon.core.feel import BadExpression, names, parse
from metrikon.core.feel.holes import expressions
from metrikon.core.feel.lexer import KEYWORDS
from metrikon.core.flows.around import ITEM, RUN, Around, Scope, lost
from metrikon.core.flows.form import Where
from metrikon.core.flows.kind import Known, Language, Schema
from metrikon.core.flows.model import Flow, Step
from metrikon.core.flows.problems import Problem
from metrikon.core.flows.reading import UNREAD, read_flow


def check_flow(data: Any, language: Language, known: Known) -> tuple[Flow | None, list[Problem]]:
    """The flow in plain data, and everything that is wrong with it: with its form, and with what it means."""
    flow, problems = read_flow(data, language)
    return flow, [*problems, *(verify(flow, known) if flow is not None else ())]


def verify(flow: Flow, known: Known) -> list[Problem]:
    """Everything found wrong with what a flow means; an empty list when nothing was."""
    walk = _Verifier(flow, known)
    walk.block(flow.steps, {"item": ITEM, "run": RUN})
    return walk.problems


class _Verifier:
    def __init__(self, flow: Flow, known: Known) -> None:
        self.flow = flow
        self.known = known
        self.problems: list[Problem] = []

    def block(self, steps: Sequence[Step], scope: Scope) -> None:
        seen = dict(scope)
        for number, step in enumerate(steps):
            if step.name in KEYWORDS:
                self._tell(step, ("name",), f"{step.name!r} is a word of FEEL, so that no expression could name it; choose another.")
            if step.name in seen:
                self._tell(step, ("name",), f"The name {step.name!r} is taken already; choose another.")
            seen[step.name] = self._step(step, seen)
            if step.kind.ends and step.common.when is None and number < len(steps) - 1:
                self._tell(steps[number + 1], (), f"It is never reached, since {step.name!r} before it stops the run. Move or remove it.")
                break

    def _step(self, step: Step, scope: Scope) -> Schema | None:
        around = Around(self.flow, self.known, scope)
        for where, condition in step.conditions:
            self._expression(step, where, condition, scope if where == ("when",) else {**scope, **step.kind.sees(step.parameters, around)})
        for where, text in self._holes(step):
            self._expression(step, where, text, scope)
        if step.kind is UNREAD:
            return {}
        for place, message in step.kind.check(step.parameters, around):
            self._tell(step, (step.kind.name, *place.split("/")) if place else (step.kind.name,), message)
        for _, name, block in step.blocks:
            inner = {"failure": FAILURE} if name == "on_failure" else step.kind.names(step.parameters, around, name)
            self.block(block, {**scope, **inner})
        return step.kind.result(step.parameters, around)

    def _holes(self, step: Step) -> Iterable[tuple[Where, str]]:
        found: list[tuple[Where, str]] = []
        failure = step.common.on_failure
        for root, values in (((step.kind.name,), step.plain), (("on_failure", "result"), failure.result if failure else None)):
            try:
                found += [((*root, *_parts(place)), text) for place, text in expressions(values)]
            except BadExpression as error:
                self._tell(step, root, str(error))
        return found

    def _expression(self, step: Step, where: Where, text: str, scope: Scope) -> None:
        try:
            tree = parse(text)
        except BadExpression as error:
            self._tell(step, where, str(error))
            return
        for path in names(tree):
            for message in lost(path, scope):
                self._tell(step, where, message)

    def _tell(self, step: Step, where: Where, message: str) -> None:
        self.problems.append(Problem(step.name, "/".join(str(each) for each in where), message, (*step.where, *where)))


FAILURE: Schema = {
    "type": "object",
    "properties": {"step": {"type": "string"}, "message": {"type": "string"}, "attempts": {"type": "integer"}},
    "additionalProperties": False,
}


def _parts(place: str) -> list[str | int]:
    return [int(each) if each.isdigit() else each for each in place.split("/") if each]
