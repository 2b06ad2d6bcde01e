"""Delivery keys: exact, short, and telling nothing; those of earlier versions are recognised, but not another row's."""

from __future__ import annotations

import unicodedata
from decimal import Decimal
from typing import Any

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from metrikon.core.flows.keys import by_former_rule, former_parts, is_former, key_of
from metrikon.core.values.exact import as_kept

TEXT = st.text(max_size=20).map(lambda text: unicodedata.normalize("NFC", text))
PARTS = st.lists(TEXT | st.decimals(-(10**6), 10**6, places=2) | st.booleans() | st.integers(-99, 99), min_size=1, max_size=4)
LONG = "Ferns of the northern house, " * 20


@given(PARTS, PARTS)
def test_other_parts_have_another_key_and_the_same_the_same(one: list[Any], two: list[Any]) -> None:
    assume([(type(each) is str, each) for each in one] != [(type(each) is str, each) for each in two])
    assume(not any(isinstance(each, bool) for each in [*one, *two]))  # yes is not 1
    assert key_of(one) != key_of(two)
    assert key_of(one) == key_of(as_kept(one))


@pytest.mark.parametrize(
    ("one", "two"),
    [(["P-7"], ["p-7"]), (["a|b"], ["ab"]), (["a", "b"], ["ab"]), ([LONG + "1"], [LONG + "2"]), (["7"], [7]), ([True], [1]), (["a "], ["a"])],
)
def test_what_differs_in_anything_is_another_row(one: list[Any], two: list[Any]) -> None:
    assert key_of(one) != key_of(two)


@pytest.mark.parametrize(("one", "two"), [([7], [Decimal("7.00")]), (["e\u0301"], ["\u00e9"])])
def test_what_is_only_written_otherwise_is_the_same_row(one: list[Any], two: list[Any]) -> None:
    assert key_of(one) == key_of(two)


def test_a_flow_may_ask_that_capitals_and_blanks_do_not_count() -> None:
    assert key_of(["P-7", 1], ignore_case=True) == key_of([" p-7 ", 1], ignore_case=True)
    assert key_of(["P-7", 1], ignore_case=True) != key_of(["P-8", 1], ignore_case=True)


@given(st.text(max_size=40), st.text(max_size=40))
def test_a_key_tells_nothing_of_its_parts(one: str, two: str) -> None:
    key = key_of([one, two])
    assert len(key) == 67
    assert set(key) <= set("k-0123456789abcdef")


def former(parts: list[Any]) -> str:
    return f"xlsx:/srv/garden/ledger.xlsx#Rows|{by_former_rule(parts)}"[:500]


@pytest.mark.parametrize("parts", [["Fernhill", "P-7", 1], ["a|b", Decimal("1.50")], [LONG, "P-7"]])
def test_a_key_of_the_earlier_rule_is_recognised_by_the_row_beside_it(parts: list[Any]) -> None:
    key = former(parts)
    held = former_parts(key, "Rows")
    assert held is not None
    assert is_former(held, len(key) == 500, parts, [*parts, "something else"])
    assert is_former(held, len(key) == 500, parts, [])  # nothing beside it says otherwise
    assert former_parts(key_of(parts), "Rows") is None


@pytest.mark.parametrize(("held", "parts"), [(["P-7"], ["p-7"]), ([LONG + "1"], [LONG + "2"])])
def test_a_row_that_the_earlier_rule_took_for_another_is_told_apart(held: list[Any], parts: list[Any]) -> None:
    key = former(held)
    kept = former_parts(key, "Rows")
    assert kept is not None
    assert not is_former(kept, len(key) == 500, parts, held)
    assert is_former(kept, len(key) == 500, held, held)
