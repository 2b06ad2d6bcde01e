"""What a cell of a rule lets through, where that can be told from its text: values, or stretches of numbers, dates, texts.

An input whose cells can be told so has a dimension: its values fall into segments, in each of which the same rules hold.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from typing import Any

import msgspec

from metrikon.core.feel import BadExpression, parse_tests
from metrikon.core.feel import syntax as s
from metrikon.core.feel.closures import closure_of
from metrikon.core.feel.running import Running
from metrikon.core.feel.values import ORDERED, kind_of

KINDS = ("number", "string", "date", "years and months duration", "days and time duration")  # values that are ordered and can be told apart by ==


class Stretch(msgspec.Struct, frozen=True):
    """From one value to another; None: without an end."""

    low: Any
    high: Any
    low_open: bool
    high_open: bool


class Cell(msgspec.Struct, frozen=True):
    """What is let through: anything, or any of these stretches, or with `negated` none of them."""

    stretches: tuple[Stretch, ...]
    anything: bool = False
    negated: bool = False


def cell_of(text: str) -> Cell | None:
    """What unary tests let through; None when that depends on more than the value."""
    try:
        part = parse_tests(text)
    except BadExpression:
        return None
    assert isinstance(part, s.Tests)
    if not part.tests:
        return Cell((), anything=True)
    found: list[Stretch] = []
    for test in part.tests:
        stretches = _stretches(test)
        if stretches is None:
            return None
        found += stretches
    return Cell(tuple(found), negated=part.negated)


def _stretches(test: s.Part) -> list[Stretch] | None:
    if isinstance(test, s.Test):
        value = _value(test.value)
        if value is None:
            return None
        return {
            "=": [Stretch(value, value, False, False)],
            "<": [Stretch(None, value, True, True)],
            "<=": [Stretch(None, value, True, False)],
            ">": [Stretch(value, None, True, True)],
            ">=": [Stretch(value, None, False, True)],
            "!=": [Stretch(None, value, True, True), Stretch(value, None, True, True)],
        }[test.sign]
    if isinstance(test, s.RangeOf):
        ends = [None if each is None else _value(each) for each in (test.low, test.high)]
        if any(each is None for each in ends) or kind_of(ends[0]) != kind_of(ends[1]):
            return None
        return [Stretch(ends[0], ends[1], test.low_open, test.high_open)]
    if isinstance(test, s.ListOf):
        inner = [_stretches(each) for each in test.elements]
        return None if any(each is None for each in inner) else [one for each in inner if each is not None for one in each]
    value = _value(test)
    return None if value is None else [Stretch(value, value, False, False)]


def _value(part: s.Part) -> Any:
    """The value of a part that needs nothing of the scope; None where it does, or is null."""
    if any(isinstance(each, s.Name | s.FunctionOf | s.For | s.Quantified) for each in s.whole(part)):
        return None
    if any(isinstance(each, s.BuiltIn) and each.name in ("now", "today") for each in s.whole(part)):
        return None

    value = closure_of(part)({}, Running())
    return value if isinstance(value, bool) or kind_of(value) in ORDERED else None


class Dimension(msgspec.Struct, frozen=True):
    """The segments of an input: `edges` in order for what is ordered, `values` for yes/no. `rules` has the rules that hold in each, as bits.

    Segment 2i+1 is the value edges[i] itself, segment 2i what lies before it, the last one what lies after all.
    """

    kind: str
    edges: tuple[Any, ...]
    rules: tuple[int, ...]

    def at(self, value: Any) -> int | None:
        """The rules that a value meets, as bits; None for a value of another kind."""
        if kind_of(value) != self.kind:
            return None
        where = bisect_left(self.edges, value)
        on = where < len(self.edges) and self.edges[where] == value
        return self.rules[2 * where + 1 if on else 2 * where]


def dimension(cells: Sequence[Cell | None], edges_besides: Sequence[Cell] = ()) -> Dimension | None:
    """The dimension of an input from the cells of all rules in it; None when they cannot be told, or are of several kinds.

    A cell that is None lets through what it will: its rule is among those of every segment.
    """
    every = [each for each in (*cells, *edges_besides) if each is not None]
    ends = [end for each in every for stretch in each.stretches for end in (stretch.low, stretch.high) if end is not None]
    found = {kind_of(each) for each in ends}
    if len(found) != 1 or next(iter(found)) not in (*KINDS, "boolean"):
        return None
    edges = tuple(sorted(set(ends)))
    if found == {"boolean"}:
        edges = (False, True)
    count = 2 * len(edges) + 1
    turns = [0] * (count + 1)  # rules that begin or cease to hold at a segment
    for number, cell in enumerate(cells):
        for start, end in segments(cell, edges):
            turns[start] ^= 1 << number
            turns[end + 1] ^= 1 << number
    rules, now = [], 0
    for each in turns[:count]:
        now ^= each
        rules.append(now)
    return Dimension(next(iter(found)), edges, tuple(rules))


def segments(cell: Cell | None, edges: Sequence[Any]) -> list[tuple[int, int]]:
    """The first and last segment of each run of segments that a cell lets through, in order, apart from each other."""
    last = 2 * len(edges)
    if cell is None or cell.anything:
        return [(0, last)]
    runs = []
    for each in cell.stretches:
        start = 0 if each.low is None else 2 * bisect_left(edges, each.low) + (2 if each.low_open else 1)
        end = last if each.high is None else 2 * (bisect_right(edges, each.high) - 1) + (0 if each.high_open else 1)
        if start <= end:
            runs.append((start, end))
    merged: list[tuple[int, int]] = []
    for start, end in sorted(runs):
        if merged and start <= merged[-1][1] + 1:
            merged[-1] = (merged[-1][0], max(end, merged[-1][1]))
        else:
            merged.append((start, end))
    return _between(merged, last) if cell.negated else merged


def _between(runs: Sequence[tuple[int, int]], last: int) -> list[tuple[int, int]]:
    """The segments that are in none of the runs."""
    found, at = [], 0
    for start, end in runs:
        if start > at:
            found.append((at, start - 1))
        at = end + 1
    return [*found, *([(at, last)] if at <= last else [])]


class Index(msgspec.Struct, frozen=True):
    """For each input its dimension, if it has one, and the rules whose cell must be worked out, as bits."""

    dimensions: tuple[Dimension | None, ...]
    unclear: tuple[int, ...]


def index_of(columns: Sequence[Sequence[str]]) -> Index:
    """The index of the rules of a table, from their tests, input by input."""
    dimensions, unclear = [], []
    for tests in columns:
        cells = [cell_of(each) for each in tests]
        dimensions.append(dimension(cells))
        unclear.append(sum(1 << number for number, each in enumerate(cells) if each is None))
    return Index(tuple(dimensions), tuple(unclear))


__all__ = ["Cell", "Dimension", "Index", "Stretch", "cell_of", "dimension", "index_of", "segments"]
