"""Values: what people print becomes exact, and nothing else does."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from metrikon.core.values.codes import gtin_problem, iban_problem, vat_problem
from metrikon.core.values.dates import day_first, parse_date
from metrikon.core.values.exact import NotJson, dumps, loads
from metrikon.core.values.numbers import currency_in, decimal_mark, parse_number
from metrikon.core.values.phones import parse_phone
from metrikon.core.values.text import clean, fold
from metrikon.core.values.times import parse_moment, parse_time
from metrikon.core.values.units import unit_code
from metrikon.core.values.web import parse_address, parse_mail
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


@pytest.mark.parametrize(("text", "country", "value"), CASES["phones"])
def test_a_telephone_number_takes_the_form_of_its_country(text: str, country: str | None, value: str | None) -> None:
    assert parse_phone(text, country) == value


@pytest.mark.parametrize(("kind", "text", "right"), [(kind, *case) for kind in ("ibans", "gtins", "vats") for case in CASES[kind]])
def test_numbers_that_check_themselves_tell_a_wrong_digit(kind: str, text: str, right: bool) -> None:
    problem = {"ibans": iban_problem, "gtins": gtin_problem, "vats": vat_problem}[kind](text)
    assert (problem is None) == right, problem


@pytest.mark.parametrize(("text", "value"), CASES["times"])
def test_a_time_of_day_is_read_or_not_at_all(text: str, value: str | None) -> None:
    found = parse_time(text)
    assert (found.isoformat() if found else None) == value


@pytest.mark.parametrize(("text", "first", "zone", "value"), CASES["moments"])
def test_a_moment_keeps_its_zone_and_is_given_none(text: str, first: bool, zone: str | None, value: str | None) -> None:
    assert parse_moment(text, first, zone) == value


@pytest.mark.parametrize(
    ("parse", "text", "value"),
    [(parse, *case) for name, parse in (("mails", parse_mail), ("addresses", parse_address), ("units", unit_code)) for case in CASES[name]],
)
def test_addresses_and_units_have_one_form(parse: Any, text: str, value: str | None) -> None:
    assert parse(text) == value


@given(st.text(max_size=50))
def test_no_text_breaks_the_parsers_of_codes(text: str) -> None:
    for parse in (parse_mail, parse_address, parse_time, parse_moment, unit_code, iban_problem, gtin_problem, vat_problem):
        parse(text)
    parse_phone(text, "GB")


@given(st.integers(0, 10**16), st.integers(0, 15), st.integers(1, 9))
def test_any_single_digit_changed_in_an_iban_is_noticed(number: int, place: int, by: int) -> None:
    bank = f"{number:016}"
    check = 98 - int(bank + "131400") % 97  # DE00
    code = f"DE{check:02}{bank[:16]}"
    body = list(code)
    at = 4 + place % (len(code) - 4)
    body[at] = str((int(body[at]) + by) % 10)
    assert iban_problem("".join(body)) is not None
