"""FEEL: exact decimals, null where others raise, and no way out of the expression."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from metrikon.core.feel import BadExpression, FeelError, evaluate, fill, holes, meets, names, parse, plain, text_of
from metrikon.core.feel.parse import in_standard_spelling
from metrikon.core.feel.values import equal
from metrikon.core.values.exact import as_kept

MOMENT = datetime(2026, 11, 26, 14, 30, tzinfo=ZoneInfo("Europe/Vienna"))
SCOPE: dict[str, Any] = {"n": Decimal(3), "lines": [{"code": "A", "amount": Decimal(10)}, {"code": "B", "amount": Decimal(20)}]}


def cases() -> Iterator[Any]:
    """The cases of the corpus, each under its section."""
    section = ""
    for line in Path(__file__).with_name("feel.txt").read_text("utf-8").splitlines():
        if line.startswith("# "):
            section = line[2:].split(",")[0]
        elif line.startswith("given "):
            name, _, written = line.removeprefix("given ").partition(" = ")
            SCOPE[name] = evaluate(written, {})
        elif line:
            expression, mark, value = line.rpartition(" => ")
            assert mark, line
            yield pytest.param(expression, value, id=f"{section}: {expression}")


@pytest.mark.parametrize(("text", "value"), list(cases()))
def test_an_expression_has_its_value(text: str, value: str) -> None:
    found = evaluate(text, SCOPE, moment=MOMENT)
    assert text_of([found])[1:-1] == value  # type: ignore[index]


@pytest.mark.parametrize("text", ["", "1 +", "(", "a b", "import os", "__import__('os')", "x := 1", "[1..", "'single'", "1 ? 2 : 3", "a.b."])
def test_what_is_no_expression_is_told_with_its_place(text: str) -> None:
    with pytest.raises(BadExpression):
        parse(text)


@pytest.mark.parametrize("text", ['open("/etc/passwd")', 'eval("1")', "nothing(1)"])
def test_only_known_functions_can_be_called(text: str) -> None:
    with pytest.raises(BadExpression, match="no function"):
        evaluate(text, {})


def test_names_that_led_to_null_are_told() -> None:
    missing: list[str] = []
    assert evaluate("order.total > 100", {"order": {}}, missing) is None
    assert missing == ["order.total"]


def test_python_is_out_of_reach() -> None:
    assert evaluate("n.__class__", {"n": {"a": 1}}) is None
    assert evaluate("lines.__len__", SCOPE) == [None, None]


@pytest.mark.parametrize(
    ("text", "said", "at"),
    [
        ("if a then b", "else and a value are expected at 12", 11),
        ("sum(1, 2", "a comma or ) is expected", 8),
        ("lines[1", "] is expected", 7),
        ("1 < 2 < 3", "two comparisons are joined by and", 6),
        ("summ(1)", "no function 'summ'; is 'sum' meant?", 0),
        ("a + 'b'", "texts stand between double quotation marks", 4),
        ('"abc', "no closing quotation mark", 0),
        ("for x lines return x", "in and a list are expected", 6),
        ("x instance of nmber", "a type is expected", 14),
        ("function(a) external {}", "outside of the language", 12),
        ("{a: 1, a: 2}", "the entry 'a' is there already", 7),
        ("1e99999", "beyond all bounds", 0),
        ("[1..3", "], ) or [ is expected", 5),
        ("a b", "an operator is expected", 2),
        ("/* a", "not closed", 0),
    ],
)
def test_an_error_says_what_was_expected_and_where(text: str, said: str, at: int) -> None:
    with pytest.raises(BadExpression, match=re.escape(said)) as caught:
        parse(text)
    assert caught.value.at == at


@pytest.mark.parametrize(
    ("tests", "value", "met"),
    [
        ("-", 5, True),
        ("5", 5, True),
        ("5", 6, False),
        ("< 10", 5, True),
        ("[1..5]", 5, True),
        ("[1..5), 7", 5, False),
        ("[1..5), 7", 7, True),
        ("not(1, 2)", 3, True),
        ("not(1, 2)", 2, False),
        ('"a", "b"', "b", True),
        ("? > 3 and ? < 6", 5, True),
        ("limit", 10, True),
        ("> limit", 11, True),
        ('contains(?, "x")', "axb", True),
        ("null", None, True),
        ("< 10", None, None),
        ("not(null)", 1, True),
        ("true", True, True),
        ('[date("2026-01-01")..date("2026-12-31")]', date(2026, 5, 1), True),
    ],
)
def test_a_value_is_put_to_unary_tests(tests: str, value: Any, met: bool | None) -> None:
    assert meets(tests, value, {"limit": 10}) is met


HOSTILE = [
    "count(for a in 1..100000, b in 1..1000 return a)",
    '{a: "xxxxxxxxxx", b: a+a+a+a+a+a, c: b+b+b+b+b+b, d: c+c+c+c+c+c, e: d+d+d+d+d+d, f: e+e+e+e+e+e, g: f+f+f+f+f+f, h: g+g+g+g+g+g, i: h+h}.i',
    "for i in 1..100000 return partial",
    "for i in 1..10000 return concatenate(partial, partial)",
    "string(for i in 1..10 return [partial, partial, partial, partial, partial])",
    "(for i in 1..40 return [partial, partial]) = (for i in 1..40 return [partial, partial])",
    "sort([1..1][1], function(a, b) true) = flatten(for i in 1..400 return for j in 1..400 return for k in 1..4 return i)",
    "{f: function(g, n) g(g, n + 1)}.f(function(g, n) g(g, n + 1), 1)",
    "for i in 1..90000 return log(i)",
    'for i in 1..90000 return matches("aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa!", "^(a+)+$")',
    "for i in 1..3000 return list contains(for j in 1..3000 return j, 5000)",
    'string join(for i in 1..50000 return "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa")',
]


@pytest.mark.parametrize("text", HOSTILE)
def test_work_without_end_is_stopped(text: str) -> None:
    with pytest.raises(FeelError, match=r"more than"):
        plain(evaluate(text, {}))


@pytest.mark.parametrize("text", ["9999999999 ** 999999999", "exp(99999)", 'matches("aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa!", "^(a+)+$")'])
def test_what_would_take_for_ever_is_answered_at_once(text: str) -> None:
    assert evaluate(text, {}) in (None, False)


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("(" * 100 + "1" + ")" * 100, "nests deeper"),
        ("[" * 100 + "]" * 100, "nests deeper"),
        ("a" + "[1]" * 500, "more than 200"),
        ("1 + " * 2000 + "1", "at most 4000"),
    ],
)
def test_an_expression_has_its_limits(text: str, said: str) -> None:
    with pytest.raises(BadExpression, match=said):
        parse(text)


def test_a_long_row_of_signs_and_terms_is_worked_out() -> None:
    assert evaluate("1 + " * 900 + "1", {}) == Decimal(901)
    assert evaluate("- " * 1900 + "1", {}) == Decimal(1)


def test_functions_of_earlier_versions_are_spelled_as_the_standard_does() -> None:
    assert in_standard_spelling("string_length(a) + count(b) + my_value(1)") == "string length(a) + count(b) + my_value(1)"
    assert in_standard_spelling('contains("string_length(x)", upper_case (a))') == 'contains("string_length(x)", upper case (a))'


@given(
    st.recursive(
        st.none() | st.booleans() | st.decimals(-(10**9), 10**9, places=3) | st.text(max_size=12) | st.dates(),
        lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.from_regex(r"[a-z]{1,5}", fullmatch=True), inner, max_size=3),
        max_leaves=8,
    )
)
def test_a_value_that_is_written_is_read_as_the_same(value: Any) -> None:
    assert equal(evaluate(literal_of(value), {}), value) is True


def literal_of(value: Any) -> str:
    if isinstance(value, list):
        return f"[{', '.join(literal_of(each) for each in value)}]"
    if isinstance(value, dict):
        return "{" + ", ".join(f'"{name}": {literal_of(each)}' for name, each in value.items()) + "}"
    written = str(text_of([value]))[1:-1]
    return f'@"{written}"' if isinstance(value, date) else written


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
