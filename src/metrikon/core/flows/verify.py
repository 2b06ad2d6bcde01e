"""Verifying a flow when it is saved: all that can be found without running it, all at once.

Each problem names the step, the place in it, what is wrong and what to do.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from pydantic import ValidationError

from metrikon.core.feel import BadExpression, names, parse
from metrikon.core.feel.functions import FUNCTIONS
from metrikon.core.feel.holes import expressions
from metrikon.core.flows.kinds import KINDS, Case, Choose, Each, Step, Write
from metrikon.core.flows.model import Flow
from metrikon.core.records.types import RecordType

ITEM = {"id": None, "file": None, "name": None, "intake": None, "received": None}
RUN = {"id": None, "today": None, "flow": None}
Scope = dict[str, Any]  # name → None (anything may follow) or the names known below it


@dataclass(frozen=True)
class Problem:
    """One thing that is wrong with a flow: at which step, at which place, and what to do."""

    step: str
    place: str
    message: str

    def as_json(self) -> dict[str, str]:
        return {"step": self.step, "place": self.place, "message": self.message}

    def __str__(self) -> str:
        where = f"step {self.step}, {self.place}" if self.step else self.place or "the flow"
        return f"{where}: {self.message}"


class BadFlow(ValueError):
    """A flow that cannot be saved; `problems` lists everything that was found."""

    def __init__(self, problems: list[Problem]) -> None:
        super().__init__("\n".join(str(problem) for problem in problems))
        self.problems = problems


def flow_from(data: Any) -> Flow:
    """The flow in plain data. Raises `BadFlow` naming every place that does not fit."""
    if not isinstance(data, dict):
        raise BadFlow([Problem("", "", "A flow is a mapping that starts with `metrikon: 1` and a `name`.")])
    try:
        flow = Flow.model_validate(data)
    except ValidationError as error:
        raise BadFlow([_problem(data, part) for part in error.errors()]) from error
    kinds = [problem for step in _steps(flow.steps) for problem in _one_kind(step)]
    if kinds:
        raise BadFlow(kinds)
    return flow


def _problem(data: Any, error: Any) -> Problem:
    """One error of the form checker in our words, with the name of the step it lies in."""
    place, step, at = [], "", data
    for part in error["loc"]:
        place.append(str(part))
        at = at.get(part) if isinstance(at, dict) else at[part] if isinstance(at, list) and isinstance(part, int) and part < len(at) else None
        if isinstance(at, dict) and isinstance(at.get("name"), str):
            step = at["name"] if at is not data else step
    message = {"missing": "is missing; add it.", "extra_forbidden": "is not known here; remove it or check its spelling."}.get(
        error["type"], f"{error['msg']}."
    )
    return Problem(step, "/".join(place), message)


def _steps(steps: list[Step]) -> Iterator[Step]:
    for step in steps:
        yield step
        if step.choose:
            for case in step.choose.cases:
                yield from _steps(case.steps)
            yield from _steps(step.choose.otherwise)
        if step.each:
            yield from _steps(step.each.steps)


def _one_kind(step: Step) -> Iterator[Problem]:
    given = [kind for kind in KINDS if getattr(step, kind) is not None]
    if len(given) != 1:
        said = f"has {' and '.join(given)}" if given else "has no kind"
        yield Problem(step.name, "", f"{said}; give it exactly one of {', '.join(KINDS)}.")


def verify(flow: Flow, record_types: Mapping[str, RecordType], models: set[str]) -> list[Problem]:
    """Everything found wrong with names, types and destinations; an empty list when nothing was."""
    walk = _Verifier(flow, record_types, models)
    walk.block(flow.steps, {"item": dict(ITEM), "run": dict(RUN)})
    return walk.problems


class _Verifier:
    def __init__(self, flow: Flow, record_types: Mapping[str, RecordType], models: set[str]) -> None:
        self.flow = flow
        self.record_types = record_types
        self.models = models
        self.problems: list[Problem] = []

    def block(self, steps: list[Step], scope: Scope) -> None:
        seen = dict(scope)
        for number, step in enumerate(steps):
            if step.name in seen:
                self._add(step, "name", f"The name {step.name!r} is taken already; choose another.")
            seen[step.name] = self._step(step, seen)
            if step.stop and number < len(steps) - 1:
                self._add(steps[number + 1], "", f"It is never reached, since {step.name!r} before it stops the run. Move or remove it.")

    def _step(self, step: Step, scope: Scope) -> Any:
        kind = step.kind
        if step.choose:
            self._choose(step, step.choose, scope)
            return None
        if step.each:
            return self._each(step, step.each, scope)
        values = step.parameters.model_dump(by_alias=True)
        for place, text in self._expressions(step, kind, values):
            self._names(step, place, text, scope)
        if step.extract:
            return self._extract(step, scope)
        if step.check:
            return self._check(step, scope)
        if step.write:
            self._write(step, step.write)
        if step.read:
            return {"document": None, "pages": None, "format": None, "warnings": None, "parts": None, "documents": None}
        return None

    def _expressions(self, step: Step, kind: str, values: Any) -> list[tuple[str, str]]:
        try:
            return [(f"{kind}{place}", text) for place, text in expressions(values)]
        except BadExpression as error:
            self._add(step, kind, str(error))
            return []

    def _extract(self, step: Step, scope: Scope) -> Any:
        assert step.extract is not None
        name, model = step.extract.record_type, step.extract.model
        for place, each in (("model", model), ("second", step.extract.second)):
            if each is not None and each not in self.models:
                self._add(step, f"extract/{place}", f"There is no model {each!r}. Known: {', '.join(sorted(self.models))}.")
        if name not in self.record_types:
            known = ", ".join(sorted(self.record_types)) or "none yet; put one first"
            self._add(step, "extract/record_type", f"There is no record type {name!r}. Known: {known}.")
            return None
        return {"id": None, "record_type": None, "record": _shape(self.record_types[name].schema), "findings": None, "usage": None}

    def _check(self, step: Step, scope: Scope) -> Any:
        assert step.check is not None
        texts = [text for _, text in expressions(step.check.record)]
        if len(texts) == 1:
            try:
                path = next(names(parse(texts[0])), None)
            except BadExpression:
                return None
            if path and len(path) == 1 and isinstance(scope.get(path[0]), dict) and "record" in scope[path[0]]:
                return {**scope[path[0]], "approved": None}
        self._add(step, "check/record", "It must be the result of an extract step, such as ${invoice}.")
        return None

    def _write(self, step: Step, write: Write) -> None:
        if write.to not in self.flow.destinations:
            known = ", ".join(self.flow.destinations) or "none; add `destinations` to the flow"
            self._add(step, "write/to", f"There is no destination {write.to!r} in this flow. Known: {known}.")

    def _choose(self, step: Step, choose: Choose, scope: Scope) -> None:
        for number, case in enumerate(choose.cases):
            self._case(step, number, case, scope)
        self.block(choose.otherwise, scope)

    def _case(self, step: Step, number: int, case: Case, scope: Scope) -> None:
        self._names(step, f"choose/cases/{number}/when", case.when, scope)
        if case.when.strip() == "true" and number < len(step.choose.cases) - 1:  # type: ignore[union-attr]
            self._add(step, f"choose/cases/{number}", "It always holds, so the cases after it are never reached.")
        self.block(case.steps, scope)

    def _each(self, step: Step, each: Each, scope: Scope) -> Any:
        for place, text in self._expressions(step, "each/of", each.of):
            self._names(step, place, text, scope)
        if "${" not in each.of:
            self._add(step, "each/of", "It must be a list, such as ${checked.record.lines}.")
        element = self._element(each.of, scope)
        self.block(each.steps, {**scope, each.name: element, f"{each.name}_number": None})
        return None

    def _element(self, of: str, scope: Scope) -> Any:
        try:
            paths = [path for _, text in expressions(of) for path in names(parse(text))]
        except BadExpression:
            return None
        at: Any = scope
        for part in paths[0] if len(paths) == 1 else ():
            at = at.get(part) if isinstance(at, dict) else None
        return at

    def _names(self, step: Step, place: str, text: str, scope: Scope) -> None:
        try:
            tree = parse(text)
        except BadExpression as error:
            self._add(step, place, str(error))
            return
        for call in tree.find_data("call") if hasattr(tree, "find_data") else ():
            name = str(call.children[0])
            if name not in FUNCTIONS:
                self._add(step, place, f"There is no function {name!r}. Known: {', '.join(sorted(FUNCTIONS))}.")
        for path in names(tree):
            self._path(step, place, path, scope)

    def _path(self, step: Step, place: str, path: tuple[str, ...], scope: Scope) -> None:
        at: Any = scope
        for number, part in enumerate(path):
            if not isinstance(at, dict):
                return
            if part not in at:
                before = ".".join(path[:number])
                where = f"{before} holds" if before else "known here are"
                self._add(step, place, f"{part!r} is not known; {where} {', '.join(sorted(at))}.")
                return
            at = at[part]

    def _add(self, step: Step, place: str, message: str) -> None:
        self.problems.append(Problem(step.name, place, message))


def _shape(schema: Mapping[str, Any]) -> Any:
    """The names a record type offers; lists offer the names of their rows."""
    if "properties" in schema:
        return {name: _shape(part) for name, part in schema["properties"].items()}
    return _shape(schema["items"]) if "items" in schema else None
