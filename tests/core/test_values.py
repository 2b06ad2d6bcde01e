"""Values: what people print becomes exact, and nothing else does."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from metrikon.core.values.dates import day_first, parse_date
from metrikon.core.values.exact import NotJson, dumps, loads
from metrikon.core.values.numbers import currency_in, decimal_mark, parse_number
from metrikon.core.values.text import clean, fold
from metrikon.demo.wording import printed_date, printed_number

CASES = loads(Path(__file__).with_name("values.json").read_bytes())
AMOUNTS = st.decimals(min_value=-(10**9), max_value=10**9, places=2, allow_nan=False)


@pytest.mark.parametrize(("text", "mark", "value"), CASES["numbers"])
def test_an_amount_is_read_exactly_or_not_at_all(text: str, mark: str | None, value: str | None) -> None:
    found = parse_number(text, mark)
    assert (None if found is None else str(found)) == value


@pytest.mark.parametrize(("text", "first", "value"), CASES["dates"])
def test_a_date_is_read_or_not_at_all(text: str, first: bool | None, value: str | None) -> None:
    found = parse_date(text, first)
    assert (None if found is None else found.isoformat()) == value


@pytest.mark.parametrize(("text", "code"), CASES["currencies"])
def test_a_currency_is_found_by_code_or_sign(text: str, code: str | None) -> None:
    assert currency_in(text) == code


@given(AMOUNTS, st.sampled_from(["en", "de", "fr", "ch"]))
def test_every_printed_amount_is_read_back(value: Decimal, style: str) -> None:
    mark = "." if style in ("en", "ch") else ","
    assert parse_number(printed_number(value, style), mark) == value


@given(
    st.dates(date(2000, 1, 1), date(2099, 12, 31)), st.sampled_from(["iso", "dots", "slashes", "words"]), st.sampled_from(["en", "de", "fr", "nl"])
)
def test_every_printed_date_is_read_back(value: date, style: str, language: str) -> None:
    assert parse_date(printed_date(value, style, language), True) == value


@given(st.text(max_size=60))
def test_no_text_breaks_the_parsers(text: str) -> None:
    parse_number(text)
    parse_date(text)
    assert clean(clean(text)) == clean(text)
    fold(text)


def test_the_document_decides_what_a_mark_means() -> None:
    assert decimal_mark(["12,50", "3,20", "1.200,00"]) == ","
    assert decimal_mark(["12.50"]) == "."
    assert decimal_mark(["12"]) is None


def test_the_document_decides_whether_the_day_stands_first() -> None:
    assert day_first(["25/12/2026", "01/02/2026"]) is True
    assert day_first(["12/25/2026"]) is False
    assert day_first(["01/02/2026"]) is None


JSON = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**53), 2**53) | st.text(max_size=20) | AMOUNTS,
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=8), inner, max_size=4),
    max_leaves=20,
)


@given(JSON)
def test_json_keeps_every_digit(value: Any) -> None:
    back = loads(dumps(value))
    assert back == value
    assert dumps(back) == dumps(value)


def test_trailing_zeros_survive() -> None:
    assert dumps(loads('{"total":12.30}')) == b'{"total":12.30}'


def test_what_is_no_json_is_told() -> None:
    with pytest.raises(NotJson):
        loads("{")


def test_control_and_look_alike_characters_are_cleaned() -> None:
    assert clean("a\u200bb\u00a0 c\x07") == "ab c"
    assert clean("\u2212 5") == "- 5"
