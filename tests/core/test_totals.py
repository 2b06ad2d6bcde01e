"""Totals over rows, rates of days, and the series of charts."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from metrikon.core.values.rates import NoRate, rates, rounded
from metrikon.core.values.series import NoChart, series
from metrikon.core.values.totals import NotSummed, Totals
from metrikon.sandbox.rates import listed
from metrikon.steps.chart import drawn

XML = (
    b'<Envelope xmlns="http://www.ecb.int/vocabulary/2002-08-01/eurofxref"><Cube><Cube time="2026-10-02"><Cube currency="USD" rate="1.25"/>'
    b'<Cube currency="JPY" rate="160"/></Cube><Cube time="2026-09-30"><Cube currency="USD" rate="1.2"/></Cube></Cube></Envelope>'
)


def test_a_rate_is_that_of_the_day_or_of_the_last_before_it() -> None:
    known = rates(XML)
    assert known.of("USD", "EUR", date(2026, 10, 2), 7) == known.of("USD", "EUR", date(2026, 10, 4), 7)
    assert known.of("USD", "EUR", date(2026, 10, 2), 7).rate == Decimal("0.8")
    assert known.of("USD", "EUR", date(2026, 10, 1), 7).day == date(2026, 9, 30)
    assert known.of("EUR", "USD", date(2026, 10, 2), 7).rate == Decimal("1.25")
    assert known.of("USD", "JPY", date(2026, 10, 2), 7).rate == Decimal(128)
    assert known.of("EUR", "EUR", date(1999, 1, 1), 0).day is None


@pytest.mark.parametrize(
    ("currency", "on", "told"),
    [
        ("USD", date(2026, 9, 1), "no rate of 2026-09-01 or before"),
        ("USD", date(2026, 11, 1), "more than 7 days earlier"),
        ("JPY", date(2026, 9, 30), "'JPY' has no rate on 2026-09-30. Known: EUR, USD"),
    ],
)
def test_where_there_is_no_rate_it_is_told_why(currency: str, on: date, told: str) -> None:
    with pytest.raises(NoRate, match=told):
        rates(XML).of(currency, "EUR", on, 7)


@pytest.mark.parametrize(
    "data",
    [
        b"",
        b"<a/>",
        b"no xml",
        XML.replace(b"1.25", b"nan"),
        XML.replace(b"1.25", b"-1"),
        XML.replace(b"1.25", b"0"),
        XML.replace(b"2026-10-02", b"soon"),
    ],
)
def test_what_holds_no_rates_is_refused(data: bytes) -> None:
    with pytest.raises(NoRate):
        rates(data)


def test_the_stand_in_has_no_rates_on_saturdays_and_holidays() -> None:
    known = rates(listed(date(2026, 12, 28)).encode())
    assert date(2026, 12, 25) not in known.by_day
    assert known.of("USD", "EUR", date(2026, 12, 27), 7).day == date(2026, 12, 24)


@pytest.mark.parametrize(
    ("amount", "currency", "found"), [("2.345", "EUR", "2.35"), ("-2.345", "EUR", "-2.35"), ("2.5", "JPY", "3"), ("1.23456", "KWD", "1.235")]
)
def test_money_is_rounded_to_the_units_of_its_currency(amount: str, currency: str, found: str) -> None:
    assert str(rounded(Decimal(amount), currency)) == found


@settings(max_examples=80, deadline=None)
@given(st.lists(st.tuples(st.sampled_from("abc"), st.decimals(-(10**9), 10**9, places=4)), max_size=40), st.randoms())
def test_sums_are_exact_in_any_order_and_add_up(rows: list[tuple[str, Decimal]], chance: Any) -> None:
    """The sums by category add up to the whole, digit by digit, whatever the order."""
    totals = Totals(["Category"], ["Total"])
    shuffled = list(rows)
    chance.shuffle(shuffled)
    for category, amount in shuffled:
        totals.add({"Category": category, "Total": amount}, None)
    assert totals.total()["Total"] == sum((amount for _, amount in rows), Decimal(0))
    for each in totals.rows():
        assert each["Total"] == sum((amount for category, amount in rows if category == each["Category"]), Decimal(0))
    assert sum(each["count"] for each in totals.rows()) == len(rows)


def test_periods_stand_in_their_order_and_columns_are_found_by_their_names_in_tables() -> None:
    totals = Totals(["Kind of thing"], ["Total"], "quarter")
    for day, amount in ((date(2026, 10, 1), "1.1"), (date(2026, 3, 31), "2"), (date(2026, 12, 31), None)):
        totals.add({"kind_of_thing": "seeds", "total": amount}, day)
    assert totals.rows() == [
        {"Kind of thing": "seeds", "period": "2026-Q1", "count": 1, "Total": Decimal(2)},
        {"Kind of thing": "seeds", "period": "2026-Q4", "count": 2, "Total": Decimal("1.1")},
    ]
    assert totals.empty == 1


def test_what_is_no_number_is_an_error_with_its_row_and_never_nothing() -> None:
    totals = Totals([], ["Total"], where="ledger")
    totals.add({"Total": "1,234.50"}, None)
    with pytest.raises(NotSummed, match="Row 2 of ledger: Total holds 'twelve', which is no number"):
        totals.add({"Total": "twelve"}, None)
    assert totals.total() == {"Total": Decimal("1234.50")}


def test_the_same_rows_give_the_same_picture_byte_for_byte() -> None:
    rows = [
        {"Category": name, "Total": Decimal(amount)}
        for name, amount in (("Seeds $2 <b>", 12), ("Tools", 30), ("Ferns and mosses from far away, and more", 7))
    ]
    found = series(rows, "Category", "Total", None)
    for draw in ("bars", "lines", "shares"):
        png, svg = drawn(found, draw, "Spending & more", "EUR")
        assert (png, svg) == drawn(found, draw, "Spending & more", "EUR")
        assert png.startswith(b"\x89PNG")
        assert b"<script" not in svg
    assert drawn(series([], "Category", "Total", None), "bars", "", "")[0].startswith(b"\x89PNG")


@pytest.mark.parametrize(
    ("rows", "told"),
    [
        ([{"Category": "a", "Sum": 1}], "no column 'Total'. They have Category, Sum"),
        ([{"Category": "a", "Total": "much"}], "Row 1: Total holds 'much'"),
        ([{"Category": str(each), "Total": 1} for each in range(61)], "61 places along Category"),
    ],
)
def test_rows_that_cannot_be_drawn_are_told(rows: list[dict[str, Any]], told: str) -> None:
    with pytest.raises(NoChart, match=told):
        series(rows, "Category", "Total", None)
    with pytest.raises(NoChart, match="less than nothing"):
        drawn(series([{"a": 1, "b": -1}], "a", "b", None), "shares", "", "")
