"""List functions (10.3.4.4), and sorting (10.3.4.8)."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from functools import cmp_to_key
from typing import Any

from metrikon.core.feel.functions.declared import function, whole
from metrikon.core.feel.numbers import ARITHMETIC, NoNumber
from metrikon.core.feel.running import Running
from metrikon.core.feel.temporal import added
from metrikon.core.feel.values import ORDERED, Function, Months, compared, equal, kind_of, native


def _one_list(values: Sequence[Any]) -> list[Any]:
    """The elements of the only argument when it is a list, else the arguments."""
    return list(values[0]) if len(values) == 1 and isinstance(values[0], list) else list(values)


def _numbers(values: Sequence[Any]) -> list[Decimal] | None:
    """The numbers given, at least one; None when something else is among them."""
    found = [native(each) for each in _one_list(values)]
    return found if found and all(isinstance(each, Decimal) for each in found) else None


def _total(numbers: Sequence[Decimal]) -> Decimal:
    total = Decimal(0)
    for each in numbers:
        total = ARITHMETIC.add(total, each)
    return total


def _furthest(running: Running, values: Sequence[Any], sign: str) -> Any:
    found = [native(each) for each in _one_list(values)]
    running.step(len(found))
    if not found or any(kind_of(each) != kind_of(found[0]) for each in found) or kind_of(found[0]) not in ORDERED:
        return None
    best = found[0]
    for each in found[1:]:
        further = compared(sign, each, best)
        if further is None:
            return None
        best = each if further else best
    return best


@function("min", "*list: any", running=True)
def _min(running: Running, *items: Any) -> Any:
    return _furthest(running, items, "<")


@function("max", "*list: any", running=True)
def _max(running: Running, *items: Any) -> Any:
    return _furthest(running, items, ">")


@function("count", "list: list")
def _count(items: list[Any]) -> Decimal:
    return Decimal(len(items))


@function("sum", "*list: any", running=True)
def _sum(running: Running, *items: Any) -> Any:
    numbers = _numbers(items)
    if numbers is not None:
        running.step(len(numbers))
        return _total(numbers)
    durations = _one_list(items)
    if not durations or len({kind_of(each) for each in durations}) != 1 or kind_of(durations[0]) not in ORDERED[-2:]:
        return None
    total = durations[0]
    for each in durations[1:]:
        total = added(total, each)
    return total


@function("mean", "*list: any", running=True)
def _mean(running: Running, *items: Any) -> Any:
    numbers = _numbers(items)
    if numbers is None:
        return None
    running.step(len(numbers))
    return ARITHMETIC.divide(_total(numbers), Decimal(len(numbers)))


@function("product", "*list: any", running=True)
def _product(running: Running, *items: Any) -> Any:
    numbers = _numbers(items)
    if numbers is None:
        return None
    running.step(len(numbers))
    total = Decimal(1)
    try:
        for each in numbers:
            total = ARITHMETIC.multiply(total, each)
    except NoNumber:
        return None
    return total


@function("median", "*list: any", running=True)
def _median(running: Running, *items: Any) -> Any:
    numbers = sorted(_numbers(items) or ())
    running.step(len(numbers))
    if not numbers:
        return None
    half = len(numbers) // 2
    return numbers[half] if len(numbers) % 2 else ARITHMETIC.divide(ARITHMETIC.add(numbers[half - 1], numbers[half]), Decimal(2))


@function("stddev", "*list: any", running=True)
def _stddev(running: Running, *items: Any) -> Any:
    """Of a sample: the sum of squares is divided by one less than there are numbers."""
    numbers = _numbers(items)
    if numbers is None or len(numbers) < 2:
        return None
    running.step(2 * len(numbers))
    mean = ARITHMETIC.divide(_total(numbers), Decimal(len(numbers)))
    squares = [ARITHMETIC.power(ARITHMETIC.subtract(each, mean), 2) for each in numbers]
    return ARITHMETIC.sqrt(ARITHMETIC.divide(_total(squares), Decimal(len(numbers) - 1)))


@function("mode", "*list: any", running=True)
def _mode(running: Running, *items: Any) -> Any:
    if items == ([],):
        return []
    numbers = _numbers(items)
    if numbers is None:
        return None
    running.step(len(numbers))
    counts: dict[Decimal, int] = {}
    for each in numbers:
        counts[each] = counts.get(each, 0) + 1
    most = max(counts.values())
    return sorted(each for each, count in counts.items() if count == most)


def _three_valued(values: Sequence[Any], wanted: bool) -> bool | None:
    """Whether one is as wanted (`any`), in three-valued logic."""
    if any(each is wanted for each in values):
        return True
    return False if all(each is (not wanted) for each in values) else None


@function("all", "*list: any", running=True)
def _all(running: Running, *items: Any) -> bool | None:
    values = _one_list(items)
    running.step(len(values))
    found = _three_valued(values, False)
    return None if found is None else not found


@function("any", "*list: any", running=True)
def _any(running: Running, *items: Any) -> bool | None:
    values = _one_list(items)
    running.step(len(values))
    return _three_valued(values, True)


def _same(running: Running, one: Any, two: Any) -> bool:
    return equal(one, two, running) is True


@function("list contains", "list: list", "element: any", running=True)
def _list_contains(running: Running, items: list[Any], element: Any) -> bool:
    running.step(len(items))
    return any(_same(running, each, element) for each in items)


@function("sublist", "list: list", "start position: number", "length?: number")
def _sublist(items: list[Any], start: Decimal, length: Decimal | None = None) -> Any:
    first = whole(start)
    count = None if length is None else whole(length)
    if not first or abs(first) > len(items) or (length is not None and (count is None or count < 0)):
        return None
    at = first - 1 if first > 0 else len(items) + first
    return items[at:] if count is None else items[at : at + count]


@function("append", "list: list", "*item: any", running=True)
def _append(running: Running, items: list[Any], *item: Any) -> Any:
    running.make(len(items) + len(item))
    return [*items, *item]


@function("concatenate", "*list: list", running=True)
def _concatenate(running: Running, *lists: list[Any]) -> Any:
    running.make(sum(len(each) for each in lists))
    return [element for each in lists for element in each]


def _place(items: list[Any], position: Decimal, end: int) -> int | None:
    """Where an element with a number stands, from 0; a number below 0 counts from the end."""
    number = whole(position)
    if not number or abs(number) > end:
        return None
    return number - 1 if number > 0 else len(items) + number


@function("insert before", "list: list", "position: number", "newItem: any", running=True)
def _insert(running: Running, items: list[Any], position: Decimal, item: Any) -> Any:
    at = _place(items, position, len(items) + (1 if position > 0 else 0))
    running.make(len(items))
    return None if at is None else [*items[:at], item, *items[at:]]


@function("remove", "list: list", "position: number", running=True)
def _remove(running: Running, items: list[Any], position: Decimal) -> Any:
    at = _place(items, position, len(items))
    running.make(len(items))
    return None if at is None else [*items[:at], *items[at + 1 :]]


@function("list replace", "list: list", "position: number", "newItem: any", running=True)
def _replace_at(running: Running, items: list[Any], position: Decimal, item: Any) -> Any:
    at = _place(items, position, len(items))
    running.make(len(items))
    return None if at is None else [*items[:at], item, *items[at + 1 :]]


@function("list replace", "list: list", "match: function", "newItem: any", running=True)
def _replace_matching(running: Running, items: list[Any], match: Function, item: Any) -> Any:
    running.make(len(items))
    if len(match.parameters) != 2:
        return None
    return [item if match.call([each, item]) is True else each for each in items]


@function("reverse", "list: list", running=True)
def _reverse(running: Running, items: list[Any]) -> Any:
    running.make(len(items))
    return items[::-1]


@function("index of", "list: list", "match: any", running=True)
def _index(running: Running, items: list[Any], match: Any) -> Any:
    running.step(len(items))
    return [Decimal(number) for number, each in enumerate(items, 1) if _same(running, each, match)]


def _distinct(running: Running, values: Sequence[Any]) -> list[Any]:
    found: list[Any] = []
    seen: set[tuple[str, Any]] = set()
    for each in values:
        mark = _mark(native(each))
        running.step(1 if mark else len(found) + 1)
        if mark is None:
            if any(_same(running, each, one) for one in found):
                continue
        elif mark in seen:
            continue
        else:
            seen.add(mark)
        found.append(each)
    running.make(len(found))
    return found


def _mark(value: Any) -> tuple[str, Any] | None:
    """What makes a simple value the same as another; None for one that must be compared part by part."""
    return (kind_of(value), value) if value is None or isinstance(value, str | bool | Decimal | Months) else None


@function("distinct values", "list: list", running=True)
def _distinct_values(running: Running, items: list[Any]) -> Any:
    return _distinct(running, items)


@function("union", "*list: list", running=True)
def _union(running: Running, *lists: list[Any]) -> Any:
    return _distinct(running, [element for each in lists for element in each])


@function("flatten", "list: list", running=True)
def _flatten(running: Running, items: list[Any]) -> Any:
    found: list[Any] = []
    waiting = [iter(items)]
    while waiting:
        for each in waiting[-1]:
            running.step()
            if isinstance(each, list):
                waiting.append(iter(each))
                break
            found.append(each)
        else:
            waiting.pop()
    running.make(len(found))
    return found


@function("sort", "list: list", "precedes: function", running=True)
def _sort(running: Running, items: list[Any], precedes: Function) -> Any:
    """Put into the order that a function of two elements tells: true where the first comes before the second."""
    if len(precedes.parameters) != 2:
        return None
    running.make(len(items))

    def order(one: Any, two: Any) -> int:
        return -1 if precedes.call([one, two]) is True else 1 if precedes.call([two, one]) is True else 0

    return sorted(items, key=cmp_to_key(order))


@function("sort", "list: list", running=True)
def _sort_plain(running: Running, items: list[Any]) -> Any:
    """Values of one kind in their own order."""
    found = [native(each) for each in items]
    running.make(len(found))
    if not found or any(kind_of(each) != kind_of(found[0]) for each in found) or kind_of(found[0]) not in ORDERED:
        return found if not found else None
    return sorted(found, key=cmp_to_key(lambda one, two: -1 if compared("<", one, two) else 1 if compared(">", one, two) else 0))
