"""Verifying a flow when it is kept: all that can be found without running it, all at once.

Each problem names the step, the place in it, what is wrong and what to do. What a kind alone knows, its declaration says.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from metrikon.core.feel import BadExpression, names, parse
from metrikon.core.feel import syntax as s
from metrikon.core.feel.holes import expressions
from metrikon.core.feel.inferring import mismatches, type_of
from metrikon.core.feel.lexer import KEYWORDS
from metrikon.core.flows.around import ITEM, RUN, Around, Scope, lost
from metrikon.core.flows.form import Form, Where, fields
from metrikon.core.flows.kind import Known, Language, Schema
from metrikon.core.flows.model import Flow, Step
from metrikon.core.flows.odd import odd_texts
from metrikon.core.flows.problems import Problem
from metrikon.core.flows.reading import UNREAD, read_flow
from metrikon.core.flows.secret import secrets_in
from metrikon.core.flows.settings import schema_of
from metrikon.core.flows.verify_intakes import wrong_with


def check_flow(data: Any, language: Language, known: Known) -> tuple[Flow | None, list[Problem]]:
    """The flow in plain data, and everything that is wrong with it: with its form, and with what it means."""
    flow, problems = read_flow(data, language)
    return flow, [*problems, *(verify(flow, known) if flow is not None else ())]


def verify(flow: Flow, known: Known) -> list[Problem]:
    """Everything found wrong with what a flow means; an empty list when nothing was."""
    walk = _walked(flow, known)
    return [*walk.problems, *wrong_with(flow, known), *secrets_in(flow)]


def not_looked_at(flow: Flow, known: Known) -> list[str]:
    """What a flow names that is not known here, so that nothing could be told of it: such as "record type invoice"."""
    kept: Mapping[str, Any] = {
        "record type": known.record_types,
        "decision table": known.tables,
        "list": known.lists,
        "flow": known.flows,
        "connection": known.connections,
        "way in": known.ways,
    }
    used = [each for step in flow.every_step for each in step.kind.uses(step.parameters)]
    for said in (*flow.intakes, *flow.destinations.values()):
        used += [("connection", str(name)) for _, _, _, name in fields(said.form, "connection") if name] if isinstance(said.form, Form) else []
    own = set(flow.destinations)
    return list(
        dict.fromkeys(f"{what} {name}" for what, name in used if what in kept and name not in kept[what] and not (what == "list" and name in own))
    )


def remarks(flow: Flow, known: Known) -> list[Problem]:
    """What is right in a flow, and yet worth a word: such as a choice that was left open."""
    walk = _walked(flow, known)
    return walk.remarks


def results_of(flow: Flow, known: Known) -> Mapping[str, Schema | None]:
    """What the steps of a flow give, as JSON Schemas by their names; None where a name holds nothing."""
    return _walked(flow, known).results


def writers(flow: Flow, known: Known) -> list[tuple[Step, Around]]:
    """The steps of a flow that write rows, each with what is around it."""
    return _walked(flow, known).writers


def _walked(flow: Flow, known: Known) -> _Verifier:
    walk = _Verifier(flow, known)
    around: Scope = {"item": ITEM, "run": RUN, "given": {}, "settings": schema_of(flow.head.settings)}
    walk.block(flow.steps, around)
    if flow.head.on_failure is not None:
        walk.later = set()
        walk.block(flow.head.on_failure.steps, {**around, "failure": FAILURE})
    return walk


class _Verifier:
    def __init__(self, flow: Flow, known: Known) -> None:
        self.flow = flow
        self.known = known
        self.problems: list[Problem] = []
        self.remarks: list[Problem] = []
        self.results: dict[str, Schema | None] = {}
        self.writers: list[tuple[Step, Around]] = []
        self.later = {each.name for each in flow.every_step}
        self.elsewhere: dict[str, str] = {}  # names that are set within a block, with the step around it

    def block(self, steps: Sequence[Step], scope: Scope) -> None:
        seen = dict(scope)
        for number, step in enumerate(steps):
            if step.name in KEYWORDS:
                self._tell(step, ("name",), f"{step.name!r} is a word of FEEL, so that no expression could name it; choose another.")
            if step.name in seen:
                self._tell(step, ("name",), f"The name {step.name!r} is taken already; choose another.")
            seen[step.name] = self.results[step.name] = self._step(step, seen)
            if step.kind.ends and step.common.when is None and number < len(steps) - 1:
                self._tell(steps[number + 1], (), f"It is never reached, since {step.name!r} before it stops the run. Move or remove it.")
                break

    def _step(self, step: Step, scope: Scope) -> Schema | None:
        around = Around(self.flow, self.known, scope)
        result = step.kind.result(step.parameters, around) if step.kind is not UNREAD else {}
        self._until(step)
        for where, condition in step.conditions:
            names = {"when": {}, "until": {step.name: result}}.get(str(where[0]))
            self._condition(step, where, condition, {**scope, **(step.kind.sees(step.parameters, around) if names is None else names)})
        for where, text in self._holes(step):
            self._expression(step, where, text, scope)
        if step.kind is UNREAD:
            return {}
        if step.kind.writes is not None:
            self.writers.append((step, around))
        for place, message in step.kind.check(step.parameters, around):
            self._tell(step, (step.kind.name, *_parts(place)), message)
        for place, message in step.kind.remarks(step.parameters, around):
            self.remarks.append(_problem(step, (step.kind.name, *_parts(place)), message))
        for _, name, block in step.blocks:
            self.elsewhere |= {each.name: step.name for each in block}
            inner = {"failure": FAILURE} if name == "on_failure" else step.kind.names(step.parameters, around, name)
            self.block(block, {**scope, **inner})
        return result

    def _until(self, step: Step) -> None:
        """Only what may be done again and again without harm and without cost is done until a condition holds."""
        kind = step.kind
        if step.common.until is not None and kind is not UNREAD and not kind.looks:
            self._tell(step, ("until",), f"A step `{kind.name}` is done once; `until` is for steps that only look at something.")

    def _holes(self, step: Step) -> Iterable[tuple[Where, str]]:
        found: list[tuple[Where, str]] = []
        failure = step.common.on_failure
        for root, values in (((step.kind.name,), step.plain), (("on_failure", "result"), failure.result if failure else None)):
            try:
                found += [((*root, *_parts(place)), text) for place, text in expressions(values)]
            except BadExpression as error:
                self._tell(step, root, str(error))
            for place, message in odd_texts(values):
                self._tell(step, (*root, *_parts(place)), message)
        return found

    def _expression(self, step: Step, where: Where, text: str, scope: Scope) -> s.Part | None:
        try:
            tree = parse(text)
        except BadExpression as error:
            self._tell(step, where, str(error))
            return None
        wrong = [message for path in names(tree) for message in lost(path, scope)]
        for path in names(tree):
            if path[0] not in scope and path[0] in self.elsewhere:
                branch = self.elsewhere[path[0]]
                wrong = [
                    f"{path[0]!r} is set within {branch!r} alone; outside of it, it is {branch}.{path[0]}, or nothing where another way was taken."
                ]
            if path[0] not in scope and path[0] in self.later and path[0] not in self.elsewhere:
                wrong = [f"{path[0]!r} is given by a step that comes after this one. Move that step up, or name one before."]
        around = Around(self.flow, self.known, scope)
        for message in wrong or dict.fromkeys(mismatches(tree, around.schema_at)):
            self._tell(step, where, message)
        return tree

    def _condition(self, step: Step, where: Where, text: str, scope: Scope) -> None:
        tree = self._expression(step, where, text, scope)
        if tree is None:
            return
        kind = type_of(tree, Around(self.flow, self.known, scope).schema_at)
        if kind not in (None, "boolean"):
            self._tell(step, where, f"It gives a {kind}, and a condition is true or false; compare it with something.")
        if isinstance(tree, s.Literal) and tree.value is False:
            self._tell(step, where, "It can never hold. Remove what stands under it, or correct the condition.")

    def _tell(self, step: Step, where: Where, message: str) -> None:
        self.problems.append(_problem(step, where, message))


def _problem(step: Step, where: Where, message: str) -> Problem:
    return Problem(step.name, "/".join(str(each) for each in where), message, (*step.where, *where))


FAILURE: Schema = {
    "type": "object",
    "properties": {
        "step": {"type": "string"},
        "path": {"type": "string"},
        "message": {"type": "string"},
        "attempts": {"type": "integer"},
        "link": {"type": "string"},
    },
    "additionalProperties": False,
}


def _parts(place: str) -> list[str | int]:
    return [int(each) if each.isdecimal() else each for each in place.split("/") if each]
