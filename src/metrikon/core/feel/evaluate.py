"""The value of an expression in a scope. Null where a name or an operand is missing; what was missing is noted."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from datetime import date
from decimal import Decimal, DivisionByZero, InvalidOperation, Overflow
from functools import lru_cache
from typing import Any

from lark import Token, Tree

from metrikon.core.feel.functions import FUNCTIONS
from metrikon.core.feel.parse import parse

MOST_STEPS = 200_000  # evaluations of one expression


class FeelError(ValueError):
    """An expression that cannot be evaluated at all: an unknown function, or too much work."""


class _Range:
    """A range of values; `test` says whether a value lies in it."""

    def __init__(self, low: Any, high: Any, low_open: bool, high_open: bool) -> None:
        self.low, self.high, self.low_open, self.high_open = low, high, low_open, high_open

    def test(self, value: Any) -> bool | None:
        above = _compare(">" if self.low_open else ">=", value, self.low)
        below = _compare("<" if self.high_open else "<=", value, self.high)
        return None if above is None or below is None else above and below


class _Walk:
    """One evaluation: counts its steps and collects the names that led to null."""

    def __init__(self) -> None:
        self.steps = 0
        self.missing: list[str] = []

    def value(self, tree: Any, scope: Mapping[str, Any]) -> Any:
        self.steps += 1
        if self.steps > MOST_STEPS:
            raise FeelError(f"The expression takes more than {MOST_STEPS} steps.")
        rule: Callable[..., Any] = getattr(self, f"_{tree.data}")
        return rule(tree.children, scope)

    def _number(self, parts: list[Any], _: Mapping[str, Any]) -> Any:
        return Decimal(str(parts[0]))

    def _string(self, parts: list[Any], _: Mapping[str, Any]) -> Any:
        return _unquoted(str(parts[0]))

    def _true(self, *_: Any) -> Any:
        return True

    def _false(self, *_: Any) -> Any:
        return False

    def _null(self, *_: Any) -> Any:
        return None

    def _at_literal(self, parts: list[Any], _: Mapping[str, Any]) -> Any:
        return FUNCTIONS["date"](_unquoted(str(parts[0])))

    def _name(self, parts: list[Any], scope: Mapping[str, Any]) -> Any:
        name = str(parts[0])
        value = native(scope.get(name))
        if value is None:
            self.missing.append(name)
        return value

    def _path(self, parts: list[Any], scope: Mapping[str, Any]) -> Any:
        base, name = self.value(parts[0], scope), str(parts[1])
        if isinstance(base, list):
            return [native(each.get(name)) if isinstance(each, Mapping) else None for each in base]
        value = native(base.get(name)) if isinstance(base, Mapping) else None
        if value is None:
            self.missing.append(_written(parts[0]) + "." + name)
        return value

    def _filtered(self, parts: list[Any], scope: Mapping[str, Any]) -> Any:
        base = self.value(parts[0], scope)
        items = base if isinstance(base, list) else [] if base is None else [base]
        if parts[1].data in ("number", "negative"):
            at = int(self.value(parts[1], scope))
            index = at - 1 if at > 0 else len(items) + at
            return native(items[index]) if 0 <= index < len(items) and at else None
        kept = []
        for item in items:
            inner = {**scope, **item, "item": item} if isinstance(item, Mapping) else {**scope, "item": item}
            if self.value(parts[1], inner) is True:
                kept.append(item)
        return kept

    def _call(self, parts: list[Any], scope: Mapping[str, Any]) -> Any:
        name = str(parts[0])
        if name not in FUNCTIONS:
            raise FeelError(f"There is no function {name!r}. Known: {', '.join(sorted(FUNCTIONS))}.")
        values = [self.value(part, scope) for part in parts[1:]]
        try:
            return FUNCTIONS[name](*values)
        except TypeError as error:
            raise FeelError(f"The function {name!r} does not take {len(values)} arguments.") from error

    def _list(self, parts: list[Any], scope: Mapping[str, Any]) -> Any:
        return [self.value(part, scope) for part in parts]

    def _context(self, parts: list[Any], scope: Mapping[str, Any]) -> Any:
        found: dict[str, Any] = {}
        for entry in parts:
            key, value = entry.children
            name = _unquoted(str(key)) if key.type == "STRING" else str(key)
            found[name] = self.value(value, {**scope, **found})
        return found

    def _range(self, parts: list[Any], scope: Mapping[str, Any]) -> Any:
        return _Range(self.value(parts[0], scope), self.value(parts[1], scope), True, str(parts[2].children[0]) != "]")

    def _range_closed(self, parts: list[Any], scope: Mapping[str, Any]) -> Any:
        return _Range(self.value(parts[0], scope), self.value(parts[1], scope), False, str(parts[2].children[0]) != "]")

    def _conditional(self, parts: list[Any], scope: Mapping[str, Any]) -> Any:
        return self.value(parts[1] if self.value(parts[0], scope) is True else parts[2], scope)

    def _loop(self, parts: list[Any], scope: Mapping[str, Any]) -> Any:
        return [self.value(parts[-1], inner) for inner in self._bindings(parts[:-1], scope)]

    def _quantified(self, parts: list[Any], scope: Mapping[str, Any]) -> Any:
        results = [self.value(parts[-1], inner) for inner in self._bindings(parts[1:-1], scope)]
        wanted = str(parts[0]) == "some"
        if wanted in [r for r in results if isinstance(r, bool)]:
            return wanted
        return None if any(r is None for r in results) else not wanted

    def _bindings(self, iterators: list[Any], scope: Mapping[str, Any]) -> Iterator[Mapping[str, Any]]:
        if not iterators:
            yield scope
            return
        name, source = iterators[0].children
        items = self.value(source, scope)
        for item in items if isinstance(items, list) else [] if items is None else [items]:
            yield from self._bindings(iterators[1:], {**scope, str(name): item})

    def _disjunction(self, parts: list[Any], scope: Mapping[str, Any]) -> Any:
        values = [self.value(part, scope) for part in parts]
        return True if True in [v for v in values if isinstance(v, bool)] else None if not all(v is False for v in values) else False

    def _conjunction(self, parts: list[Any], scope: Mapping[str, Any]) -> Any:
        open_end = False
        for part in parts:
            value = self.value(part, scope)
            if value is False:
                return False
            open_end = open_end or value is not True
        return None if open_end else True

    def _compare(self, parts: list[Any], scope: Mapping[str, Any]) -> Any:
        return _compare(str(parts[1]), self.value(parts[0], scope), self.value(parts[2], scope))

    def _between(self, parts: list[Any], scope: Mapping[str, Any]) -> Any:
        value, low, high = (self.value(part, scope) for part in parts)
        return _Range(low, high, False, False).test(value)

    def _within(self, parts: list[Any], scope: Mapping[str, Any]) -> Any:
        value, place = (self.value(part, scope) for part in parts)
        if isinstance(place, _Range):
            return place.test(value)
        if isinstance(place, list):
            return any(p.test(value) is True if isinstance(p, _Range) else _compare("=", value, p) is True for p in place)
        return _compare("=", value, place)

    def _sum(self, parts: list[Any], scope: Mapping[str, Any]) -> Any:
        return self._chain(parts, scope)

    def _product(self, parts: list[Any], scope: Mapping[str, Any]) -> Any:
        return self._chain(parts, scope)

    def _chain(self, parts: list[Any], scope: Mapping[str, Any]) -> Any:
        value = self.value(parts[0], scope)
        for sign, part in zip(parts[1::2], parts[2::2], strict=True):
            value = _calculated(str(sign), value, self.value(part, scope))
        return value

    def _power(self, parts: list[Any], scope: Mapping[str, Any]) -> Any:
        value = self.value(parts[0], scope)
        for part in parts[1:]:
            value = _calculated("**", value, self.value(part, scope))
        return value

    def _negative(self, parts: list[Any], scope: Mapping[str, Any]) -> Any:
        value = self.value(parts[0], scope)
        return -value if isinstance(value, Decimal) else None


def evaluate(text: str, scope: Mapping[str, Any], missing: list[str] | None = None) -> Any:
    """The value of an expression; numbers are `Decimal`. Names that gave null are added to `missing`.

    Raises `BadExpression` and `FeelError`.
    """
    chain = _chain_of(text)
    if chain:
        value = _followed(chain, scope)
        if value is not None:
            return value
    walk = _Walk()
    value = walk.value(parse(text), scope)
    if missing is not None:
        missing.extend(dict.fromkeys(walk.missing))
    return value


@lru_cache(maxsize=4096)
def _chain_of(text: str) -> tuple[str, ...]:
    """The names of an expression that is nothing but a path such as invoice.record.total; else none."""
    tree = parse(text)
    return tuple(_written(tree).split(".")) if _is_chain(tree) else ()


def _is_chain(tree: Any) -> bool:
    return bool(tree.data == "name" or (tree.data == "path" and _is_chain(tree.children[0])))


def _followed(chain: tuple[str, ...], scope: Mapping[str, Any]) -> Any:
    """What a path leads to through contexts alone; None when it is not as simple as that."""
    value: Any = scope.get(chain[0])
    for name in chain[1:]:
        if type(value) is not dict and not isinstance(value, Mapping):
            return None
        value = value.get(name)
    return native(value)


def native(value: Any) -> Any:
    """A value as FEEL knows it: whole numbers become `Decimal`, in lists too."""
    if isinstance(value, list):
        return [native(each) for each in value] if any(isinstance(each, int | list) for each in value) else value
    return Decimal(value) if isinstance(value, int) and not isinstance(value, bool) else value


def _compare(sign: str, left: Any, right: Any) -> bool | None:
    if sign in ("=", "!="):
        if left is not None and right is not None and _kind(left) != _kind(right):
            return None
        return bool(left == right) is (sign == "=")
    if left is None or right is None or _kind(left) != _kind(right) or isinstance(left, bool | list | dict):
        return None
    return bool({"<": left < right, "<=": left <= right, ">": left > right, ">=": left >= right}[sign])


def _kind(value: Any) -> str:
    for name, kind in (("bool", bool), ("number", Decimal), ("text", str), ("date", date), ("list", list)):
        if isinstance(value, kind):
            return name
    return "context"


def _calculated(sign: str, left: Any, right: Any) -> Any:
    if sign == "+" and isinstance(left, str) and isinstance(right, str):
        return left + right
    if isinstance(left, date) and isinstance(right, date) and sign == "-":
        return Decimal((left - right).days)
    if not isinstance(left, Decimal) or not isinstance(right, Decimal):
        return None
    try:
        if sign == "**":
            return left**right if abs(right) <= 1000 else None
        return {"+": left.__add__, "-": left.__sub__, "*": left.__mul__, "/": left.__truediv__}[sign](right)
    except (DivisionByZero, InvalidOperation, Overflow):
        return None


def _unquoted(text: str) -> str:
    body = text[1:-1]
    if "\\" not in body:
        return body
    pairs = {'\\"': '"', "\\\\": "\\", "\\n": "\n", "\\t": "\t", "\\r": "\r"}
    out, at = [], 0
    while at < len(body):
        pair = body[at : at + 2]
        out.append(pairs.get(pair, pair) if pair.startswith("\\") else body[at])
        at += 2 if pair.startswith("\\") else 1
    return "".join(out)


def _written(tree: Any) -> str:
    if isinstance(tree, Token):
        return str(tree)
    if isinstance(tree, Tree) and tree.data in ("name", "path"):
        return ".".join(_written(part) for part in tree.children)
    return "…"
