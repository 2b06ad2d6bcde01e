"""FEEL: exact decimals, null where others raise, and no way out of the expression."""

from __future__ import annotations

import json
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from metrikon.core.feel import BadExpression, FeelError, evaluate, fill, holes, names, parse
from metrikon.core.values.exact import as_kept

CASES = json.loads(Path(__file__).with_name("feel.json").read_text("utf-8"))
SCOPE = {"n": 3, "lines": [{"code": "A", "amount": Decimal(10)}, {"code": "B", "amount": Decimal(20)}]}


def plain(value: Any) -> Any:
    if isinstance(value, Decimal):
        return f"{value.normalize():f}"
    return [plain(each) for each in value] if isinstance(value, list) else value


@pytest.mark.parametrize(("text", "value"), CASES, ids=[case[0] for case in CASES])
def test_an_expression_has_its_value(text: str, value: Any) -> None:
    found = evaluate(text, SCOPE)
    assert (str(found) if isinstance(found, Decimal) and "string" not in text and "." in str(value) else plain(found)) == value


@pytest.mark.parametrize("text", ["", "1 +", "(", "a b", "import os", "__import__('os')", "x := 1", "[1..", "'single'", "1 ? 2 : 3", "a.b."])
def test_what_is_no_expression_is_told_with_its_place(text: str) -> None:
    with pytest.raises(BadExpression):
        parse(text)


@pytest.mark.parametrize("text", ['open("/etc/passwd")', 'eval("1")', "nothing(1)"])
def test_only_known_functions_can_be_called(text: str) -> None:
    with pytest.raises(FeelError, match="no function"):
        evaluate(text, {})


def test_names_that_led_to_null_are_told() -> None:
    missing: list[str] = []
    assert evaluate("order.total > 100", {"order": {}}, missing) is None
    assert missing == ["order.total"]


def test_python_is_out_of_reach() -> None:
    assert evaluate("n.__class__", {"n": {"a": 1}}) is None
    assert evaluate("lines.__len__", SCOPE) == [None, None]


def test_work_without_end_is_stopped() -> None:
    many = "for a in l, b in l, c in l return a + b + c"
    with pytest.raises(FeelError, match="steps"):
        evaluate(f"count({many})", {"l": [Decimal(n) for n in range(100)]})
    with pytest.raises(BadExpression):
        parse("(" * 100 + "1" + ")" * 100)


def test_a_text_that_is_one_hole_keeps_its_type() -> None:
    assert fill("${n}", SCOPE) == Decimal(3)
    assert fill("${n} lines", SCOPE) == "3 lines"
    assert fill({"a": ["${lines[1].code}", 5]}, SCOPE) == {"a": ["A", 5]}
    assert fill("no hole", SCOPE) == "no hole"


def test_a_brace_within_a_hole_does_not_end_it() -> None:
    assert fill('${ {a: "}"}.a }', {}) == "}"
    with pytest.raises(BadExpression):
        holes("${ n ")


def test_the_names_an_expression_needs_are_known_beforehand() -> None:
    assert set(names(parse("sum(a.b) + c + (some x in d satisfies x.y > e)"))) == {("a", "b"), ("c",), ("d",), ("e",)}


@given(st.text('abn123 +-*/()[]{}.,<>="', max_size=60))
def test_no_text_breaks_the_language(text: str) -> None:
    try:
        evaluate(text, SCOPE)
    except (BadExpression, FeelError) as error:
        assert str(error)


@given(st.decimals(-(10**6), 10**6, places=2), st.decimals(-(10**6), 10**6, places=2))
def test_arithmetic_is_exact(a: Decimal, b: Decimal) -> None:
    assert evaluate("a + b - b", {"a": a, "b": b}) == a


@given(st.lists(st.decimals(-(10**6), 10**6, places=2) | st.integers(-(10**6), 10**6).map(Decimal), min_size=1, max_size=6))
def test_what_was_written_and_read_again_gives_the_same_as_what_was_at_hand(numbers: list[Decimal]) -> None:
    live = {"l": numbers, "rows": [{"n": each} for each in numbers]}
    for text in ("sum(l)", "mean(l)", "max(l)", "l[1] + 1", "sum(rows.n)", "l[-1] in [0..5]", "count(l) * l[1]"):
        assert evaluate(text, as_kept(live)) == evaluate(text, live)
        assert evaluate(text, live) is not None
