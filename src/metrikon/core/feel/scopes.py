"""Names bound within an expression, what is gone through, and what a value meets."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

from metrikon.core.feel.running import Running
from metrikon.core.feel.values import Range, equal, kind_of, native

Value = Any
Scope = Any  # whatever has `get(name)`: a mapping, or names bound within an expression
LENGTH = 1_000_000  # elements that a range may be gone through


class Bound:
    """Names bound within an expression, before those around them."""

    __slots__ = ("around", "own")

    def __init__(self, own: Mapping[str, Any], around: Scope) -> None:
        self.own = own
        self.around = around

    def get(self, name: str, default: Any = None) -> Any:
        return self.own[name] if name in self.own else self.around.get(name, default)


def within(item: Value, scope: Scope) -> Scope:
    """The scope of a filter: `item`, and the entries of the element, unless it has one of that name itself."""
    return Bound({"item": item, **item} if isinstance(item, Mapping) else {"item": item}, scope)


def element(items: list[Any], number: Decimal) -> Value:
    """The element with a number, from 1, or from the end with one below 0; null where there is none."""
    if number != number.to_integral_value() or not number or abs(number) > len(items):
        return None
    return native(items[int(number) - 1 if number > 0 else int(number)])


def items_of(value: Value) -> Iterator[Any]:
    """What is gone through: the elements of a list, the numbers or dates of a range, or a value by itself."""
    if isinstance(value, list):
        yield from value
    elif isinstance(value, Range) and value.low is not None and value.high is not None:
        found = list(gone_through(value.low, value.high)) if kind_of(value.low) != "number" else gone_through(value.low, value.high)
        for each in found:
            if value.holds(each) is not False:
                yield each
    elif value is not None:
        yield value


def gone_through(first: Value, last: Value) -> Iterator[Any]:
    """From one whole number or date to another, upwards or downwards; both are part of it."""
    if type(first) is date and type(last) is date:
        step = timedelta(days=1 if last >= first else -1)
        for _ in range(min(abs((last - first).days) + 1, LENGTH)):
            yield first
            if first != last:
                first += step
    elif isinstance(first, Decimal) and isinstance(last, Decimal) and first == first.to_integral_value() and abs(first) < 10**15:
        count = min(int(min(abs(last - first), Decimal(LENGTH))) + 1, LENGTH)
        step_by = 1 if last >= first else -1
        for number in range(0, count * step_by, step_by):
            yield first + number


def value_meets(value: Value, wanted: Value, running: Running) -> bool | None:
    """Whether a value is another, or in a range, or one of a list."""
    if isinstance(wanted, Range):
        return wanted.holds(value)
    if isinstance(wanted, list):
        running.step(len(wanted))
        if isinstance(value, list) and equal(value, wanted, running) is True:
            return True
        found = [each.holds(value) if isinstance(each, Range) else equal(value, each, running) for each in wanted]
        return True if True in found else None if value is None and found and None in found else False
    return equal(value, wanted, running)
