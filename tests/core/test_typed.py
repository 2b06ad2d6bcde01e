"""What a person types: unknown names are refused with the nearest known, a figure is read once and in one way."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from metrikon.core.records.typed import BadTyped, TwoReadings, as_typed, number_typed
from metrikon.core.records.types import record_type

KIND = record_type(
    {
        "title": "note",
        "type": "object",
        "properties": {
            "form": {"type": "string"},
            "total": {"type": "number"},
            "lines": {"type": "array", "items": {"type": "object", "properties": {"amount": {"type": "number"}}}},
        },
    },
    "note",
)


@pytest.mark.parametrize(
    ("document", "reader", "value"),
    [(",", None, "1784"), (",", ",", "1784"), (".", None, "1.784"), (None, ",", "1784"), (None, ".", "1.784")],
)
def test_the_mark_of_the_document_and_of_the_reader_tell_thousands_from_parts(document: str | None, reader: str | None, value: str) -> None:
    assert number_typed("1.784", document, reader) == Decimal(value)


@pytest.mark.parametrize(("document", "reader"), [(None, None), (",", "."), (".", ",")])
def test_where_they_differ_or_neither_is_known_the_person_is_asked(document: str | None, reader: str | None) -> None:
    with pytest.raises(TwoReadings, match=r"1\.784 can be read as 1,784 or as 1\.784\. Write 1784 for the one, 1\.7840 for the other\."):
        number_typed("1.784", document, reader)


@given(st.decimals(min_value=-(10**9), max_value=10**9, places=2, allow_nan=False), st.sampled_from([".", ",", None]))
def test_what_has_two_places_is_never_asked_about(value: Decimal, mark: str | None) -> None:
    assert number_typed(f"{value:f}", mark, None) == value


def test_both_ways_out_of_a_doubt_are_taken() -> None:
    assert number_typed("1784", None, None) == 1784
    assert number_typed("1.7840", None, None) == Decimal("1.784")


@pytest.mark.parametrize(
    ("values", "message"),
    [
        ({"from": "x"}, "The record type note has no field 'from'. Is 'form' meant? Known: form, lines, total."),
        ({"lines": [{"amuont": 1}]}, "has no field 'amuont' in Lines 0. Is 'amount' meant?"),
        ({"total": "1.784"}, "Total: 1.784 can be read as"),
    ],
)
def test_what_cannot_be_taken_is_refused_with_its_place(values: dict[str, Any], message: str) -> None:
    with pytest.raises(BadTyped) as error:
        as_typed(KIND, values, {}, None, None)
    assert message in str(error.value)


def test_values_that_stand_already_are_not_read_again() -> None:
    assert as_typed(KIND, {"total": "1.784"}, {"total": "1.784"}, None, None) == {"total": "1.784"}
    assert as_typed(KIND, {"total": "1.784,50", "lines": [{"amount": Decimal(3)}]}, {}, ",", None) == {
        "total": Decimal("1784.50"),
        "lines": [{"amount": Decimal(3)}],
    }
