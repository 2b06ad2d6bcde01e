"""Closures of functions, and of calls to them."""

from __future__ import annotations

from typing import Any

from metrikon.core.feel import syntax as s
from metrikon.core.feel.closures import Worked, closure_of, makes, size_of, written
from metrikon.core.feel.functions import call, call_named
from metrikon.core.feel.functions.declared import FUNCTIONS, function
from metrikon.core.feel.lexer import BadExpression
from metrikon.core.feel.parse import parse
from metrikon.core.feel.running import COSTLY, DEEPEST_CALLS, FeelError, Running
from metrikon.core.feel.scopes import Bound, Scope, Value
from metrikon.core.feel.types import is_of
from metrikon.core.feel.values import Function, Range


@makes(s.Invocation)
def _call(part: s.Invocation) -> Worked:
    arguments = [closure_of(each) for each in part.arguments]
    named = [(name, closure_of(each)) for name, each in part.named]
    if isinstance(part.function, s.BuiltIn):
        return _call_built_in(part, part.function.name, arguments, named)
    function = closure_of(part.function)
    names = [name for name, _ in named]

    def called(scope: Scope, running: Running) -> Value:
        found = function(scope, running)
        if isinstance(found, list) and len(found) == 1:
            found = found[0]
        if not isinstance(found, Function):
            running.note(f"{written(part.function)}()")
            return None
        if named:
            if sorted(names) != sorted(found.parameters):
                return None
            given = {name: each(scope, running) for name, each in named}
            return found.call([given[name] for name in found.parameters])
        return found.call([each(scope, running) for each in arguments])

    return called


def _call_built_in(part: s.Invocation, name: str, arguments: list[Worked], named: list[tuple[str, Worked]]) -> Worked:
    cost = COSTLY if name in ("log", "exp", "sqrt", "stddev", "matches", "replace", "split") else 1

    def called(scope: Scope, running: Running) -> Value:
        running.step(cost)
        if named:
            value = call_named(name, running, {each: worked(scope, running) for each, worked in named})
        else:
            value = call(name, running, [worked(scope, running) for worked in arguments])
        if value is None:
            running.note(f"{name}({'…' if part.arguments or part.named else ''})")
        return value

    return called


@makes(s.BuiltIn)
def _built_in(part: s.BuiltIn) -> Worked:
    """A function of the language as a value, such as for `sort`."""
    name = part.name
    parameters = tuple(each.name for each in FUNCTIONS[name][0].parameters)
    return lambda scope, running: Function(parameters, lambda values: call(name, running, values))


@makes(s.FunctionOf)
def _function(part: s.FunctionOf) -> Worked:
    names = tuple(name for name, _ in part.parameters)
    types = tuple(kind for _, kind in part.parameters)
    body, size = closure_of(part.body), size_of(part.body)

    def defined(scope: Scope, running: Running) -> Value:
        def called(values: list[Any]) -> Value:
            if len(values) != len(names):
                return None
            fitted = [_fitted(value, kind) for value, kind in zip(values, types, strict=True)]
            running.step(size)
            running.depth += 1
            if running.depth > DEEPEST_CALLS:
                raise FeelError(f"Its functions call each other more than {DEEPEST_CALLS} deep.")
            try:
                return body(Bound(dict(zip(names, fitted, strict=True)), scope), running)
            finally:
                running.depth -= 1

        return Function(names, called, types)

    return defined


def _fitted(value: Value, kind: str | None) -> Value:
    """An argument as a parameter with a type takes it: null where it is of another."""
    if kind is None or value is None or is_of(value, kind):
        return value
    if isinstance(value, list) and len(value) == 1 and is_of(value[0], kind):
        return value[0]
    return [value] if kind.startswith("list") and is_of([value], kind) else None


@function("range", "from: text")
def _range_from(text: str) -> Range | None:
    """A range written with literals alone, such as "[1..3)"."""
    try:
        part = parse(text)
    except BadExpression:
        return None
    if not isinstance(part, s.RangeOf) or any(each is not None and not isinstance(each, s.Literal | s.AtLiteral) for each in (part.low, part.high)):
        return None
    found = closure_of(part)({}, Running())
    return found if isinstance(found, Range) else None
