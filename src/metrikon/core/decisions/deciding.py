"""What a table decides. Rules that hold are found by segments, not one by one; cells that depend on more than their value are worked out."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from decimal import Decimal
from functools import cmp_to_key, lru_cache
from typing import Any

import msgspec

from metrikon.core.decisions.model import ANY, SINGLE, Output, Table
from metrikon.core.feel import evaluate, meets, parse_tests
from metrikon.core.feel import syntax as s
from metrikon.core.feel.closures import closure_of
from metrikon.core.feel.functions import call
from metrikon.core.feel.running import Running
from metrikon.core.feel.values import equal, text_of

IN_WORDS = {"number": "a number, such as 1200.50,", "boolean": "true or false"}  # types of an input that a text is none of


class Undecided(ValueError):
    """The rules contradict each other for what is given, or that is of another type than they want; the message says which."""


class Decision(msgspec.Struct, frozen=True):
    """What was decided: the outcome as the standard has it, the numbers of the rules that held, and what was looked at."""

    outcome: Any
    rules: tuple[int, ...]
    inputs: dict[str, Any]
    missing: tuple[str, ...] = ()


def decide(table: Table, given: Mapping[str, Any], moment: datetime | None = None) -> Decision:
    """What a table decides for what it is given. Raises `Undecided`, `FeelError` and `BadExpression`."""
    missing: list[str] = []
    inputs = {each.name: evaluate(each.wanted, given, missing, moment) for each in table.inputs}
    _of_its_type(table, inputs)
    hits = _holding(table, inputs, given, moment)
    decided = [_then(table, number, given, moment) for number in hits]
    outcome, used = _outcome(table, hits, decided, given, moment)
    return Decision(outcome, tuple(number + 1 for number in used), inputs, tuple(missing))


def _of_its_type(table: Table, inputs: Mapping[str, Any]) -> None:
    """A text where a number or a yes or no is wanted meets no rule but one that takes anything: it is told, and decides nothing. Raises `Undecided`."""
    for each in table.inputs:
        wanted, value = IN_WORDS.get(each.type), inputs[each.name]
        if wanted is not None and isinstance(value, str):
            raise Undecided(f"The table {table.decision} wants {wanted} for {each.name}, not the text {value[:60]!r}. Nothing was decided.")


def _holding(table: Table, inputs: Mapping[str, Any], given: Mapping[str, Any], moment: datetime | None) -> list[int]:
    """The rules that hold, in order, from 0."""
    columns, index = table.columns, table.index
    left = (1 << len(table.rules)) - 1
    open_cells: list[tuple[int, int]] = []  # input and the rules whose cell in it must be worked out
    for at, each in enumerate(table.inputs):
        found = index.dimensions[at]
        bits = found.at(inputs[each.name]) if found is not None else None
        if bits is None:
            open_cells.append((at, -1))
        else:
            left &= bits
            open_cells.append((at, index.unclear[at]))
    holding = []
    while left:
        bit = left & -left
        left ^= bit
        number = bit.bit_length() - 1
        if all(not bit & bits or _cell_holds(table, at, number, columns, inputs, given, moment) for at, bits in open_cells):
            holding.append(number)
            if table.hit == "first":
                break
    return holding


def _cell_holds(
    table: Table, at: int, number: int, columns: Any, inputs: Mapping[str, Any], given: Mapping[str, Any], moment: datetime | None
) -> bool:
    tests = columns[at][number]
    return tests == ANY or meets(tests, inputs[table.inputs[at].name], given, None, moment) is True


def _then(table: Table, number: int, given: Mapping[str, Any], moment: datetime | None) -> dict[str, Any]:
    rule = table.rules[number]
    return {each.name: evaluate(rule.then[each.name], given, None, moment) for each in table.outputs}


def _outcome(
    table: Table, hits: list[int], decided: list[dict[str, Any]], given: Mapping[str, Any], moment: datetime | None
) -> tuple[Any, list[int]]:
    """The outcome, and the rules that it comes from."""
    if not hits:
        return _without(table, given, moment), []
    if table.hit == "unique" and len(hits) > 1:
        raise Undecided(
            f"Rules {_numbers(hits)} of {table.decision} hold at once, and only one may. Correct the table, or choose another hit policy."
        )
    if table.hit == "any" and any(equal(each, decided[0]) is not True for each in decided):
        raise Undecided(f"Rules {_numbers(hits)} of {table.decision} hold at once and decide differently. Correct the table.")
    order = list(range(len(hits)))
    if table.hit in ("priority", "output order"):

        def between(one: int, two: int) -> int:
            return _before(table, decided[one], decided[two])

        order.sort(key=cmp_to_key(between))
    if table.hit in SINGLE:
        return _shown(table, decided[order[0]]), [hits[order[0]]] if table.hit != "any" else hits
    shown = [_shown(table, decided[each]) for each in order]
    used = [hits[each] for each in order]
    if table.collect == "count":
        return Decimal(len(_distinct(shown))), used
    return (call(table.collect, Running(), shown), used) if table.collect else (shown, used)


def _without(table: Table, given: Mapping[str, Any], moment: datetime | None) -> Any:
    """The outcome when no rule holds: the defaults, if any output has one."""
    if any(each.default is not None for each in table.outputs):
        found = {each.name: evaluate(each.default, given, None, moment) if each.default is not None else None for each in table.outputs}
        return _shown(table, found) if table.hit in SINGLE or table.collect else [_shown(table, found)]
    if table.collect == "count":
        return Decimal(0)
    return None if table.hit in SINGLE or table.collect else []


def _shown(table: Table, decided: dict[str, Any]) -> Any:
    return decided[table.outputs[0].name] if len(table.outputs) == 1 else decided


def _distinct(values: list[Any]) -> list[str | None]:
    return list(dict.fromkeys(text_of([each]) for each in values))


def _numbers(hits: list[int]) -> str:
    return ", ".join(str(each + 1) for each in hits[:-1]) + f" and {hits[-1] + 1}"


def _before(table: Table, one: dict[str, Any], two: dict[str, Any]) -> int:
    """Which of two is of the higher priority, output by output."""
    for each in table.outputs:
        order = priorities(each)
        first, then = (_rank(order, decided[each.name]) for decided in (one, two))
        if first != then:
            return first - then
    return 0


def _rank(order: tuple[Any, ...], value: Any) -> int:
    return next((number for number, each in enumerate(order) if equal(each, value) is True), len(order))


def priorities(output: Output) -> tuple[Any, ...]:
    """The values of an output, those of the highest priority first."""
    return _values(output.values) if output.values else ()


@lru_cache(maxsize=256)
def _values(text: str) -> tuple[Any, ...]:
    part = parse_tests(text)
    assert isinstance(part, s.Tests)
    parts = [one for each in part.tests for one in (each.elements if isinstance(each, s.ListOf) else (each,))]
    return tuple(closure_of(each)({}, Running()) for each in parts)
