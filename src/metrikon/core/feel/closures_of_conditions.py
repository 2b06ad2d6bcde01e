"""Closures of conditions, loops and tests, in three-valued logic."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from decimal import Decimal
from typing import Any

from metrikon.core.feel import syntax as s
from metrikon.core.feel.closures import Worked, closure_of, makes, size_of
from metrikon.core.feel.running import Running
from metrikon.core.feel.scopes import Bound, Scope, Value, gone_through, items_of, value_meets
from metrikon.core.feel.values import Range, compared, native


@makes(s.If)
def _if(part: s.If) -> Worked:
    condition, then, otherwise = closure_of(part.condition), closure_of(part.then), closure_of(part.otherwise)
    return lambda scope, running: then(scope, running) if condition(scope, running) is True else otherwise(scope, running)


def _rounds(iterations: tuple[s.Iteration, ...], size: int) -> Callable[[Scope, Running], Iterator[Scope] | None]:
    """The scopes of all rounds, the last iteration going round the fastest; None where the first list is null."""
    made = [(each.name, closure_of(each.source), None if each.until is None else closure_of(each.until)) for each in iterations]

    def rounds(value: Value, scope: Scope, running: Running, at: int) -> Iterator[Scope]:
        name, _, until = made[at]
        for item in gone_through(value, until(scope, running)) if until is not None else items_of(value):
            running.step(size)
            inner = Bound({name: item if type(item) is Decimal else native(item)}, scope)
            if at + 1 == len(made):
                yield inner
            else:
                yield from rounds(made[at + 1][1](inner, running), inner, running, at + 1)

    def begun(scope: Scope, running: Running) -> Iterator[Scope] | None:
        value = made[0][1](scope, running)
        return None if value is None else rounds(value, scope, running, 0)

    return begun


@makes(s.For)
def _for(part: s.For) -> Worked:
    rounds, body = _rounds(part.iterations, size_of(part.body)), closure_of(part.body)
    partial = any(isinstance(each, s.Name) and each.name == "partial" for each in s.whole(part.body))

    def collected(scope: Scope, running: Running) -> Value:
        every = rounds(scope, running)
        if every is None:
            return None
        found: list[Any] = []
        for inner in every:
            if partial:
                running.make(len(found))
                inner = Bound({"partial": list(found)}, inner)
            running.make(1)
            found.append(body(inner, running))
        return found

    return collected


@makes(s.Quantified)
def _quantified(part: s.Quantified) -> Worked:
    rounds, body, every = _rounds(part.iterations, size_of(part.body)), closure_of(part.body), part.every

    def tried(scope: Scope, running: Running) -> Value:
        all_of_them = rounds(scope, running)
        if all_of_them is None:
            return None
        unknown = False
        for inner in all_of_them:
            found = body(inner, running)
            if found is (not every):
                return not every
            unknown = unknown or found is not every
        return None if unknown else every

    return tried


@makes(s.Or)
def _or(part: s.Or) -> Worked:
    return _logical([closure_of(each) for each in part.parts], True)


@makes(s.And)
def _and(part: s.And) -> Worked:
    return _logical([closure_of(each) for each in part.parts], False)


def _logical(parts: list[Worked], decisive: bool) -> Worked:
    """`or` (decisive: true) and `and` (decisive: false), in three-valued logic."""
    other = not decisive

    def joined(scope: Scope, running: Running) -> Value:
        unknown = False
        for each in parts:
            value = each(scope, running)
            if value is decisive:
                return decisive
            if value is not other:
                unknown = True
        return None if unknown else other

    return joined


@makes(s.Compare)
def _compare(part: s.Compare) -> Worked:
    sign, left, right = part.sign, closure_of(part.left), closure_of(part.right)
    plain = _PLAIN[sign]

    def tried(scope: Scope, running: Running) -> Value:
        one, two = left(scope, running), right(scope, running)
        kind = type(one)
        if kind is type(two) and (kind is Decimal or kind is str):
            return plain(one, two)
        return compared(sign, one, two, running)

    return tried


_PLAIN: dict[str, Callable[[Any, Any], Any]] = {
    "=": lambda one, two: one == two,
    "!=": lambda one, two: one != two,
    "<": lambda one, two: one < two,
    "<=": lambda one, two: one <= two,
    ">": lambda one, two: one > two,
    ">=": lambda one, two: one >= two,
}


@makes(s.Between)
def _between(part: s.Between) -> Worked:
    value, low, high = (closure_of(each) for each in (part.value, part.low, part.high))

    def tried(scope: Scope, running: Running) -> Value:
        found, least, most = value(scope, running), low(scope, running), high(scope, running)
        above, below = compared(">=", found, least), compared("<=", found, most)
        return False if above is False or below is False else None if above is None or below is None else True

    return tried


@makes(s.In)
def _in(part: s.In) -> Worked:
    value, tests = closure_of(part.value), _any_of(part.tests)

    def tried(scope: Scope, running: Running) -> Value:
        return tests(Bound({"?": value(scope, running)}, scope), running)

    return tried


def _any_of(tests: tuple[s.Part, ...]) -> Worked:
    return _logical([_put_to(each) for each in tests], True)


def _put_to(test: s.Part) -> Worked:
    """A test put to the value that is in the scope as "?"."""
    if isinstance(test, s.Test):
        return _test(test)
    made = closure_of(test)
    asks = any(isinstance(each, s.Name) and each.name == "?" for each in s.whole(test))

    def tried(scope: Scope, running: Running) -> Value:
        found, value = made(scope, running), scope.get("?")
        if asks and isinstance(found, bool):
            return found
        return value_meets(value, found, running)

    return tried


def _test(part: s.Test) -> Worked:
    sign, value = part.sign, closure_of(part.value)
    return lambda scope, running: compared(sign, native(scope.get("?")), value(scope, running), running)


@makes(s.Test)
def _test_as_range(part: s.Test) -> Worked:
    """A unary test outside of tests, such as (< 10), is the range of what meets it."""
    value = closure_of(part.value)

    def made(scope: Scope, running: Running) -> Value:
        end = value(scope, running)
        if end is None:
            return None
        if part.sign in ("<", "<="):
            return Range(None, end, True, part.sign == "<")
        return Range(end, None, part.sign == ">", True) if part.sign in (">", ">=") else Range(end, end) if part.sign == "=" else None

    return made


@makes(s.Tests)
def _tests(part: s.Tests) -> Worked:
    if not part.tests:
        return lambda scope, running: True
    tests = _any_of(part.tests)
    if not part.negated:
        return tests

    def negated(scope: Scope, running: Running) -> Value:
        found = tests(scope, running)
        return None if found is None else not found

    return negated
