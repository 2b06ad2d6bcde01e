"""The arithmetic of a record: exact, with both numbers in what is found, and counted for every value that takes part."""

from __future__ import annotations

from dataclasses import replace
from decimal import Decimal
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from metrikon.core.extraction.deciding.trust import trust
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.asking import Asking
from metrikon.core.extraction.planning.besides import Besides
from metrikon.core.extraction.planning.plan import Plan
from metrikon.core.extraction.settle import Reading
from metrikon.core.extraction.state import State
from metrikon.core.records.evidence import MISSING, Evidence
from metrikon.core.records.findings import Finding
from metrikon.core.records.sums import Reckoned, reckon
from metrikon.core.records.types import RecordType, record_type
from metrikon.drivers.wire import reading_bytes, reading_from
from tests.helpers import typed_document

CENTS = st.integers(0, 10**9).map(lambda cents: Decimal(cents) / 100)
AMOUNT = {"type": "number"}


def bill(**ours: Any) -> RecordType:
    row = {"type": "object", "properties": {"quantity": AMOUNT, "price": AMOUNT, "amount": AMOUNT}}
    properties = {"net": AMOUNT, "tax": AMOUNT, "total": AMOUNT, "lines": {"type": "array", "items": row}}
    return record_type({"type": "object", "properties": properties, "x-metrikon": ours}, "bill")


SUM = {"parts": ["/lines/*/amount", "/tax"], "equals": "/total", "tolerance": 0}
PRODUCT = {"list": "/lines", "factors": ["/quantity", "/price"], "equals": "/amount", "tolerance": 0}


@given(st.lists(CENTS, min_size=1, max_size=12), CENTS)
def test_a_sum_that_is_right_to_the_cent_holds_for_all_that_take_part(amounts: list[Decimal], tax: Decimal) -> None:
    record = {"tax": tax, "total": sum(amounts, tax), "lines": [{"amount": amount} for amount in amounts]}
    found = reckon(bill(sums=[SUM]), record)
    assert found.findings == []
    assert found.failed == {}
    assert found.held == {"/total": 1, "/tax": 1, **{f"/lines/{n}/amount": 1 for n in range(len(amounts))}}


@given(st.lists(CENTS, min_size=1, max_size=12), CENTS, st.integers(1, 10**6))
def test_a_cent_too_much_is_found_and_told_with_both_numbers(amounts: list[Decimal], tax: Decimal, cents: int) -> None:
    off = Decimal(cents) / 100
    record = {"tax": tax, "total": sum(amounts, tax) + off, "lines": [{"amount": amount} for amount in amounts]}
    (found,) = reckon(bill(sums=[SUM]), record).findings
    assert Decimal(found.compared["printed"]) - Decimal(found.compared["computed"]) == off
    assert f"a difference of {off}" in found.message
    assert found.fields[0] == "/total"


@given(st.lists(st.tuples(st.integers(0, 999), CENTS, st.booleans()), min_size=1, max_size=10))
def test_each_row_is_multiplied_for_itself(rows: list[tuple[int, Decimal, bool]]) -> None:
    lines = [{"quantity": quantity, "price": price, "amount": quantity * price + (0 if right else 1)} for quantity, price, right in rows]
    found = reckon(bill(products=[PRODUCT]), {"lines": lines})
    wrong = [n for n, (_, _, right) in enumerate(rows) if not right]
    assert [each.fields for each in found.findings] == [(f"/lines/{n}/amount", f"/lines/{n}/quantity", f"/lines/{n}/price") for n in wrong]
    assert {pointer for pointer in found.held if pointer.endswith("amount")} == {f"/lines/{n}/amount" for n in range(len(rows)) if n not in wrong}


@pytest.mark.parametrize(
    "record",
    [
        {},
        {"total": Decimal(3)},
        {"total": Decimal(3), "tax": Decimal(1), "lines": []},
        {"total": "3", "tax": Decimal(1), "lines": [{"amount": Decimal(2)}]},
        {"total": Decimal(3), "tax": Decimal(1), "lines": [{"amount": Decimal(2)}, {}]},
        {"total": Decimal(3), "tax": Decimal(1), "lines": ["two"]},
        {"lines": [{"quantity": "x" * 50, "price": 10**12, "amount": Decimal(1)}, None]},
    ],
)
def test_what_is_missing_or_no_number_says_nothing(record: dict[str, Any]) -> None:
    found = reckon(bill(sums=[SUM], products=[PRODUCT]), record)
    assert (found.findings, found.held, found.failed) == ([], {}, {})


def test_a_sum_gives_way_to_a_better_one() -> None:
    rule = {"parts": ["/lines/*/amount"], "equals": "/total", "unless": "/net"}
    record = {"net": Decimal(2), "total": Decimal(3), "lines": [{"amount": Decimal(2)}]}
    assert reckon(bill(sums=[rule]), record).findings == []
    assert len(reckon(bill(sums=[rule]), {**record, "net": None}).findings) == 1


def test_confidence_counts_sums_and_other_readings_for_and_against() -> None:
    record = {"net": Decimal(2), "tax": Decimal(1), "total": Decimal(3)}
    evidence = {pointer: Evidence("printed", 1, sure=0.85) for pointer in ("/net", "/tax", "/total")}
    reckoned = Reckoned(held={"/net": 1}, failed={"/tax": 1})
    planned = Plan([], {}, {}, (), (), besides=Besides({"total": Decimal("3.00"), "tax": Decimal(9)}))
    state = State(bill(), Index(typed_document("Total 3")), planned, (), Asking(), record=record, reckoned=reckoned)
    found = trust(replace(state, evidence={**evidence, "/other": MISSING})).evidence
    assert found["/net"].inputs["agree"] == found["/total"].inputs["agree"] == 1
    assert (found["/tax"].inputs["differ"], found["/tax"].inputs["failed"]) == (1, 1)
    assert found["/tax"].confidence < 0.5 < found["/net"].confidence == found["/total"].confidence
    assert found["/other"].confidence == 0.0
    assert MISSING.inputs == {}  # what all readings share is not written on


AMOUNTS = st.decimals(allow_nan=False, allow_infinity=False, places=2, min_value=-(10**9), max_value=10**9)


@given(st.dictionaries(st.text(max_size=8), AMOUNTS | st.text(max_size=8) | st.booleans(), max_size=5), st.floats(0, 1), st.text(max_size=20))
def test_a_reading_comes_out_of_its_worker_as_it_went_in(record: dict[str, Any], sure: float, quote: str) -> None:
    evidence = {"/total": Evidence("printed", 2, (1.5, 2.25, 3.0, 4.125), quote, sure, 0.5, {"place": 0.85})}
    finding = Finding("sum", "stop", quote, ("/total",), {"computed": "1.10"})
    reading = Reading(record, evidence, [finding], (quote,), [finding])
    back = reading_from(reading_bytes(reading))
    assert back == reading
    assert all(type(back.record[name]) is type(value) or value == int(value) for name, value in record.items() if isinstance(value, Decimal))
