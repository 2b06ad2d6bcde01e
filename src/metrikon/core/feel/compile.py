"""From the parts of an expression to a function that is called often: compiled once, worked out for each scope.

Each part becomes a closure of a scope and the evaluation that it is part of. Null comes where others would raise (DMN 1.5, 10.3.2); which name or
call gave it is noted. What goes round in loops is counted as it goes, and so is what is made.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from datetime import date, datetime, timedelta
from decimal import Decimal
from functools import lru_cache
from typing import Any, cast

from metrikon.core.feel import syntax as s
from metrikon.core.feel.functions import call, call_named
from metrikon.core.feel.functions.declared import FUNCTIONS, function
from metrikon.core.feel.lexer import BadExpression
from metrikon.core.feel.numbers import ARITHMETIC, NoNumber
from metrikon.core.feel.parse import parse, parse_tests
from metrikon.core.feel.running import COSTLY, DEEPEST_CALLS, FeelError, Running
from metrikon.core.feel.temporal import added, divided, literal, multiplied, property_of, subtracted
from metrikon.core.feel.types import is_of
from metrikon.core.feel.values import Function, Months, Range, compared, equal, kind_of, native

Value = Any
Scope = Any  # whatever has `get(name)`: a mapping, or names bound within an expression
Worked = Callable[[Scope, Running], Value]
LENGTH = 1_000_000  # elements that a range may be gone through


class Bound:
    """Names bound within an expression, before those around them."""

    __slots__ = ("around", "own")

    def __init__(self, own: Mapping[str, Any], around: Scope) -> None:
        self.own = own
        self.around = around

    def get(self, name: str, default: Any = None) -> Any:
        return self.own[name] if name in self.own else self.around.get(name, default)


@lru_cache(maxsize=4096)
def compiled(text: str) -> Worked:
    """The function of an expression. Raises `BadExpression`."""
    return _made(parse(text))


@lru_cache(maxsize=4096)
def compiled_tests(text: str) -> Worked:
    """The function of unary tests; the value that they are put to is in the scope as "?". Raises `BadExpression`."""
    return _made(parse_tests(text))


def _made(part: s.Part) -> Worked:
    return _MAKERS[type(part)](part)


def _size(part: s.Part) -> int:
    return sum(1 for _ in s.whole(part))


def _literal(part: s.Literal) -> Worked:
    value = part.value
    return lambda scope, running: value


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


def written(part: s.Part) -> str:
    """A part as people would name it, where it is a name or path; else three dots."""
    if isinstance(part, s.Name):
        return part.name
    if isinstance(part, s.Path):
        return ".".join((written(part.base), *part.names))
    return "…"


def _path(part: s.Path) -> Worked:
    base, names = _made(part.base), part.names
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


def _filter(part: s.Filter) -> Worked:
    base, test, size = _made(part.base), _made(part.test), _size(part.test)
    number = part.test.value if isinstance(part.test, s.Literal) and isinstance(part.test.value, Decimal) else None

    def filtered(scope: Scope, running: Running) -> Value:
        value = base(scope, running)
        items = value if isinstance(value, list) else [] if value is None else [value]
        if number is not None:
            return _element(items, number)
        kept = []
        for count, item in enumerate(items):
            running.step(size)
            found = test(_within(item, scope), running)
            if count == 0 and type(found) is Decimal:
                return _element(items, found)
            if found is True:
                kept.append(item)
        if not items:
            return None if type(test(scope, Running(running.moment))) is Decimal else []
        running.make(len(kept))
        return kept

    return filtered


def _within(item: Value, scope: Scope) -> Scope:
    """The scope of a filter: `item`, and the entries of the element, unless it has one of that name itself."""
    return Bound({"item": item, **item} if isinstance(item, Mapping) else {"item": item}, scope)


def _element(items: list[Any], number: Decimal) -> Value:
    if number != number.to_integral_value() or not number or abs(number) > len(items):
        return None
    return native(items[int(number) - 1 if number > 0 else int(number)])


def _call(part: s.Call) -> Worked:
    arguments = [_made(each) for each in part.arguments]
    named = [(name, _made(each)) for name, each in part.named]
    if isinstance(part.function, s.BuiltIn):
        return _call_built_in(part, part.function.name, arguments, named)
    function = _made(part.function)
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


def _call_built_in(part: s.Call, name: str, arguments: list[Worked], named: list[tuple[str, Worked]]) -> Worked:
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


def _built_in(part: s.BuiltIn) -> Worked:
    """A function of the language as a value, such as for `sort`."""
    name = part.name
    parameters = tuple(each.name for each in FUNCTIONS[name][0].parameters)
    return lambda scope, running: Function(parameters, lambda values: call(name, running, values))


def _function(part: s.FunctionOf) -> Worked:
    names = tuple(name for name, _ in part.parameters)
    types = tuple(kind for _, kind in part.parameters)
    body, size = _made(part.body), _size(part.body)

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


def _list(part: s.ListOf) -> Worked:
    elements = [_made(each) for each in part.elements]
    return lambda scope, running: [each(scope, running) for each in elements]


def _context(part: s.Context) -> Worked:
    entries = [(name, _made(each)) for name, each in part.entries]

    def made(scope: Scope, running: Running) -> Value:
        found: dict[str, Any] = {}
        inner = Bound(found, scope)
        for name, each in entries:
            found[name] = each(inner, running)
        return found

    return made


def _range(part: s.RangeOf) -> Worked:
    low, high = (None if each is None else _made(each) for each in (part.low, part.high))

    def made(scope: Scope, running: Running) -> Value:
        ends = [None if each is None else each(scope, running) for each in (low, high)]
        if any(each is None for each in ends) or kind_of(ends[0]) != kind_of(ends[1]):
            return None
        return Range(ends[0], ends[1], part.low_open, part.high_open)

    return made


def _if(part: s.If) -> Worked:
    condition, then, otherwise = _made(part.condition), _made(part.then), _made(part.otherwise)
    return lambda scope, running: then(scope, running) if condition(scope, running) is True else otherwise(scope, running)


def _rounds(iterations: tuple[s.Iteration, ...], size: int) -> Callable[[Scope, Running], Iterator[Scope] | None]:
    """The scopes of all rounds, the last iteration going round the fastest; None where the first list is null."""
    made = [(each.name, _made(each.source), None if each.until is None else _made(each.until)) for each in iterations]

    def rounds(value: Value, scope: Scope, running: Running, at: int) -> Iterator[Scope]:
        name, _, until = made[at]
        for item in _gone_through(value, until(scope, running)) if until is not None else _items(value):
            running.step(size)
            inner = Bound({name: native(item)}, scope)
            if at + 1 == len(made):
                yield inner
            else:
                yield from rounds(made[at + 1][1](inner, running), inner, running, at + 1)

    def begun(scope: Scope, running: Running) -> Iterator[Scope] | None:
        value = made[0][1](scope, running)
        return None if value is None else rounds(value, scope, running, 0)

    return begun


def _items(value: Value) -> Iterator[Any]:
    if isinstance(value, list):
        yield from value
    elif isinstance(value, Range) and value.low is not None and value.high is not None:
        found = list(_gone_through(value.low, value.high)) if kind_of(value.low) != "number" else _gone_through(value.low, value.high)
        for each in found:
            if value.holds(each) is not False:
                yield each
    elif value is not None:
        yield value


def _gone_through(first: Value, last: Value) -> Iterator[Any]:
    """From one whole number or date to another, upwards or downwards; both are part of it."""
    if type(first) is date and type(last) is date:
        step = timedelta(days=1 if last >= first else -1)
        for _ in range(min(abs((last - first).days) + 1, LENGTH)):
            yield first
            if first != last:
                first += step
    elif isinstance(first, Decimal) and isinstance(last, Decimal) and first == first.to_integral_value() and abs(first) < 10**15:
        count = min(int(min(abs(last - first), Decimal(LENGTH))) + 1, LENGTH)
        for number in range(count):
            yield first + number if last >= first else first - number


def _for(part: s.For) -> Worked:
    rounds, body = _rounds(part.iterations, _size(part.body)), _made(part.body)
    partial = any(isinstance(each, s.Name) and each.name == "partial" for each in s.whole(part.body))

    def gone_through(scope: Scope, running: Running) -> Value:
        every = rounds(scope, running)
        if every is None:
            return None
        found: list[Any] = []
        for inner in every:
            running.make(1)
            found.append(body(Bound({"partial": list(found)}, inner) if partial else inner, running))
            if partial:
                running.make(len(found))
        return found

    return gone_through


def _quantified(part: s.Quantified) -> Worked:
    rounds, body, every = _rounds(part.iterations, _size(part.body)), _made(part.body), part.every

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


def _or(part: s.Or) -> Worked:
    return _logical([_made(each) for each in part.parts], True)


def _and(part: s.And) -> Worked:
    return _logical([_made(each) for each in part.parts], False)


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


def _compare(part: s.Compare) -> Worked:
    sign, left, right = part.sign, _made(part.left), _made(part.right)
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


def _between(part: s.Between) -> Worked:
    value, low, high = (_made(each) for each in (part.value, part.low, part.high))

    def tried(scope: Scope, running: Running) -> Value:
        found, least, most = value(scope, running), low(scope, running), high(scope, running)
        above, below = compared(">=", found, least), compared("<=", found, most)
        return False if above is False or below is False else None if above is None or below is None else True

    return tried


def _in(part: s.In) -> Worked:
    value, tests = _made(part.value), _any_of(part.tests)

    def tried(scope: Scope, running: Running) -> Value:
        return tests(Bound({"?": value(scope, running)}, scope), running)

    return tried


def _any_of(tests: tuple[s.Part, ...]) -> Worked:
    return _logical([_put_to(each) for each in tests], True)


def _put_to(test: s.Part) -> Worked:
    """A test put to the value that is in the scope as "?"."""
    if isinstance(test, s.Test):
        return _test(test)
    made = _made(test)
    asks = any(isinstance(each, s.Name) and each.name == "?" for each in s.whole(test))

    def tried(scope: Scope, running: Running) -> Value:
        found, value = made(scope, running), scope.get("?")
        if asks and isinstance(found, bool):
            return found
        return _meets(value, found, running)

    return tried


def _meets(value: Value, wanted: Value, running: Running) -> bool | None:
    if isinstance(wanted, Range):
        return wanted.holds(value)
    if isinstance(wanted, list):
        running.step(len(wanted))
        if isinstance(value, list) and equal(value, wanted, running) is True:
            return True
        found = [each.holds(value) if isinstance(each, Range) else equal(value, each, running) for each in wanted]
        return True if True in found else None if value is None and found and None in found else False
    return equal(value, wanted, running)


def _test(part: s.Test) -> Worked:
    sign, value = part.sign, _made(part.value)
    return lambda scope, running: compared(sign, native(scope.get("?")), value(scope, running), running)


def _test_as_range(part: s.Test) -> Worked:
    """A unary test outside of tests, such as (< 10), is the range of what meets it."""
    value = _made(part.value)

    def made(scope: Scope, running: Running) -> Value:
        end = value(scope, running)
        if end is None:
            return None
        if part.sign in ("<", "<="):
            return Range(None, end, True, part.sign == "<")
        return Range(end, None, part.sign == ">", True) if part.sign in (">", ">=") else Range(end, end) if part.sign == "=" else None

    return made


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


def _chain(part: s.Chain) -> Worked:
    first, rest = _made(part.first), [(_OPERATIONS[sign], _made(each)) for sign, each in part.rest]

    def worked_out(scope: Scope, running: Running) -> Value:
        value = first(scope, running)
        for operation, each in rest:
            value = operation(value, each(scope, running), running)
        return value

    return worked_out


def _plus(left: Value, right: Value, running: Running) -> Value:
    if type(left) is Decimal and type(right) is Decimal:
        return _number(ARITHMETIC.add, left, right)
    if isinstance(left, str) and isinstance(right, str):
        running.make(len(left) + len(right))
        return left + right
    return added(left, right)


def _minus(left: Value, right: Value, running: Running) -> Value:
    if type(left) is Decimal and type(right) is Decimal:
        return _number(ARITHMETIC.subtract, left, right)
    return subtracted(left, right)


def _times(left: Value, right: Value, running: Running) -> Value:
    if type(left) is Decimal and type(right) is Decimal:
        return _number(ARITHMETIC.multiply, left, right)
    if isinstance(left, Decimal) and isinstance(right, timedelta | Months):
        left, right = right, left
    return multiplied(left, right) if isinstance(left, timedelta | Months) and isinstance(right, Decimal) else None


def _through(left: Value, right: Value, running: Running) -> Value:
    if type(left) is Decimal and type(right) is Decimal:
        return _number(ARITHMETIC.divide, left, right)
    return divided(left, right) if isinstance(left, timedelta | Months) else None


def _to_the_power(left: Value, right: Value, running: Running) -> Value:
    running.step(COSTLY)
    return _number(ARITHMETIC.power, left, right) if isinstance(left, Decimal) and isinstance(right, Decimal) else None


def _number(operation: Callable[[Decimal, Decimal], Decimal], left: Decimal, right: Decimal) -> Decimal | None:
    try:
        return operation(left, right)
    except NoNumber:
        return None


_OPERATIONS: dict[str, Callable[[Value, Value, Running], Value]] = {"+": _plus, "-": _minus, "*": _times, "/": _through, "**": _to_the_power}


def _negative(part: s.Negative) -> Worked:
    made = _made(part.value)

    def turned(scope: Scope, running: Running) -> Value:
        value = made(scope, running)
        if isinstance(value, Decimal):
            return ARITHMETIC.minus(value)
        return Months(-value.months) if isinstance(value, Months) else -value if isinstance(value, timedelta) else None

    return turned


def _instance(part: s.InstanceOf) -> Worked:
    made, kind = _made(part.value), part.type
    return lambda scope, running: is_of(made(scope, running), kind)


_MAKERS = cast(
    "dict[type[s.Part], Callable[[Any], Worked]]",
    {
        s.Literal: _literal,
        s.AtLiteral: _at_literal,
        s.Name: _name,
        s.Path: _path,
        s.Filter: _filter,
        s.Call: _call,
        s.BuiltIn: _built_in,
        s.ListOf: _list,
        s.Context: _context,
        s.RangeOf: _range,
        s.If: _if,
        s.For: _for,
        s.Quantified: _quantified,
        s.FunctionOf: _function,
        s.Or: _or,
        s.And: _and,
        s.Compare: _compare,
        s.Between: _between,
        s.In: _in,
        s.Chain: _chain,
        s.Negative: _negative,
        s.InstanceOf: _instance,
        s.Test: _test_as_range,
        s.Tests: _tests,
    },
)


def evaluate(text: str, scope: Mapping[str, Any], missing: list[str] | None = None, moment: datetime | None = None) -> Any:
    """The value of an expression; numbers are `Decimal`. Names and calls that gave null are added to `missing`; `moment` is what `now()` gives.

    Raises `BadExpression` and `FeelError`.
    """
    return native(compiled(text)(scope, Running(moment, missing)))


def meets(tests: str, value: Any, scope: Mapping[str, Any], missing: list[str] | None = None, moment: datetime | None = None) -> bool | None:
    """Whether a value meets unary tests, such as "[1..5], > 10" or "-". Raises as `evaluate`."""
    found = compiled_tests(tests)(Bound({"?": native(value)}, scope), Running(moment, missing))
    return found if isinstance(found, bool) else None


@function("range", "from: text")
def _range_from(text: str) -> Range | None:
    """A range written with literals alone, such as "[1..3)"."""
    try:
        part = parse(text)
    except BadExpression:
        return None
    if not isinstance(part, s.RangeOf) or any(each is not None and not isinstance(each, s.Literal | s.AtLiteral) for each in (part.low, part.high)):
        return None
    found = _made(part)({}, Running())
    return found if isinstance(found, Range) else None


__all__ = ["Bound", "compiled", "compiled_tests", "evaluate", "meets", "written"]
