"""Closures of values: literals, names, paths, filters, lists, contexts, ranges, arithmetic."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import timedelta
from decimal import Decimal
from typing import Any

from metrikon.core.feel import syntax as s
from metrikon.core.feel.arithmetic import OPERATIONS
from metrikon.core.feel.closures import Worked, closure_of, makes, size_of, written
from metrikon.core.feel.numbers import ARITHMETIC
from metrikon.core.feel.running import Running
from metrikon.core.feel.scopes import Bound, Scope, Value, element, within
from metrikon.core.feel.temporal import literal, property_of
from metrikon.core.feel.types import is_of
from metrikon.core.feel.values import Months, Range, kind_of, native


@makes(s.Literal)
def _literal(part: s.Literal) -> Worked:
    value = part.value
    return lambda scope, running: value


@makes(s.AtLiteral)
def _at_literal(part: s.AtLiteral) -> Worked:
    value = literal(part.text)
    if value is None:
        return _noted(lambda scope, running: None, f'@"{part.text}"')
    return lambda scope, running: value


def _noted(worked: Worked, what: str) -> Worked:
    def noted(scope: Scope, running: Running) -> Value:
        value = worked(scope, running)
        if value is None:
            running.note(what)
        return value

    return noted


@makes(s.Name)
def _name(part: s.Name) -> Worked:
    name = part.name

    def looked_up(scope: Scope, running: Running) -> Value:
        value = scope.get(name)
        kind = type(value)
        if kind is Decimal or kind is str:
            return value
        if value is None:
            running.note(name)
        return native(value)

    return looked_up


@makes(s.Path)
def _path(part: s.Path) -> Worked:
    base, names = closure_of(part.base), part.names
    shown = [".".join((written(part.base), *names[: count + 1])) for count in range(len(names))]

    def followed(scope: Scope, running: Running) -> Value:
        value = base(scope, running)
        for count, name in enumerate(names):
            if value is None:
                return None
            value = value.get(name) if type(value) is dict else _entry(value, name, running)
            if value is None:
                running.note(shown[count])
        kind = type(value)
        return value if kind is Decimal or kind is str else native(value)

    return followed


def _entry(value: Value, name: str, running: Running) -> Value:
    if isinstance(value, Mapping):
        return value.get(name)
    if isinstance(value, list):
        running.step(len(value))
        running.make(len(value))
        return [native(each.get(name)) if isinstance(each, Mapping) else property_of(each, name) for each in value]
    return property_of(value, name)


@makes(s.Filter)
def _filter(part: s.Filter) -> Worked:
    base, test, size = closure_of(part.base), closure_of(part.test), size_of(part.test)
    number = part.test.value if isinstance(part.test, s.Literal) and isinstance(part.test.value, Decimal) else None

    def filtered(scope: Scope, running: Running) -> Value:
        value = base(scope, running)
        items = value if isinstance(value, list) else [] if value is None else [value]
        if number is not None:
            return element(items, number)
        kept = []
        for count, item in enumerate(items):
            running.step(size)
            found = test(within(item, scope), running)
            if count == 0 and type(found) is Decimal:
                return element(items, found)
            if found is True:
                kept.append(item)
        if not items:
            return None if type(test(scope, Running(running.moment))) is Decimal else []
        running.make(len(kept))
        return kept

    return filtered


@makes(s.ListOf)
def _list(part: s.ListOf) -> Worked:
    elements = [closure_of(each) for each in part.elements]
    return lambda scope, running: [each(scope, running) for each in elements]


@makes(s.Context)
def _context(part: s.Context) -> Worked:
    entries = [(name, closure_of(each)) for name, each in part.entries]

    def made(scope: Scope, running: Running) -> Value:
        found: dict[str, Any] = {}
        inner = Bound(found, scope)
        for name, each in entries:
            found[name] = each(inner, running)
        return found

    return made


@makes(s.RangeOf)
def _range(part: s.RangeOf) -> Worked:
    low, high = (None if each is None else closure_of(each) for each in (part.low, part.high))

    def made(scope: Scope, running: Running) -> Value:
        ends = [None if each is None else each(scope, running) for each in (low, high)]
        if any(each is None for each in ends) or kind_of(ends[0]) != kind_of(ends[1]):
            return None
        return Range(ends[0], ends[1], part.low_open, part.high_open)

    return made


@makes(s.Chain)
def _chain(part: s.Chain) -> Worked:
    first, rest = closure_of(part.first), [(OPERATIONS[sign], closure_of(each)) for sign, each in part.rest]

    def worked_out(scope: Scope, running: Running) -> Value:
        value = first(scope, running)
        for operation, each in rest:
            value = operation(value, each(scope, running), running)
        return value

    return worked_out


@makes(s.Negative)
def _negative(part: s.Negative) -> Worked:
    made = closure_of(part.value)

    def turned(scope: Scope, running: Running) -> Value:
        value = made(scope, running)
        if isinstance(value, Decimal):
            return ARITHMETIC.minus(value)
        return Months(-value.months) if isinstance(value, Months) else -value if isinstance(value, timedelta) else None

    return turned


@makes(s.InstanceOf)
def _instance(part: s.InstanceOf) -> Worked:
    made, kind = closure_of(part.value), part.type
    return lambda scope, running: is_of(made(scope, running), kind)
