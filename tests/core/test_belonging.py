"""Values must belong where they were given: a place of their own, in the lines of their row, in the column of their field."""

from __future__ import annotations

import json
from decimal import Decimal
from typing import Any

import pytest

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.asking import Asking, Given
from metrikon.core.extraction.settle import Reading, settled
from metrikon.core.records.findings import stops
from metrikon.core.records.types import record_type
from tests.helpers import typed_document

BILL = """Quillfeather Ferns
Sold to    Harrowdene School
Terms      30 days

What                    Pieces    Each      Comes to
Royal fern              3         4.50      13.50
Hart's tongue           12        2.25      27.00
Lady fern               5         3.10      15.50

Before tax                                  56.00
Tax 20%                                     11.20
To pay                                      67.20
"""
NUMBER = {"type": "number"}
KIND = record_type(
    {
        "type": "object",
        "required": ["firm", "customer", "days", "rows", "net", "tax_pct", "gross"],
        "properties": {
            "firm": {"type": "string", "description": "Firm that invoices"},
            "customer": {"type": "string", "description": "Customer"},
            "days": {"type": "integer", "description": "Days to pay"},
            "rows": {
                "type": "array",
                "items": {
                    "type": "object",
                    "properties": {
                        "plant": {"type": "string", "description": "What it is"},
                        "pieces": {"type": "integer", "description": "Quantity"},
                        "each": {**NUMBER, "description": "Unit price"},
                        "sum": {**NUMBER, "description": "Amount"},
                    },
                },
            },
            "net": {**NUMBER, "description": "Total before tax"},
            "tax_pct": {**NUMBER, "description": "Tax rate in per cent"},
            "gross": {**NUMBER, "description": "Total to pay"},
        },
    }
)
RIGHT: dict[str, Any] = {
    "firm": "Quillfeather Ferns",
    "customer": "Harrowdene School",
    "days": 30,
    "rows": [
        {"plant": "Royal fern", "pieces": 3, "each": 4.5, "sum": 13.5},
        {"plant": "Hart's tongue", "pieces": 12, "each": 2.25, "sum": 27},
        {"plant": "Lady fern", "pieces": 5, "each": 3.1, "sum": 15.5},
    ],
    "net": 56,
    "tax_pct": 20,
    "gross": 67.2,
}


def read(changes: dict[str, Any] | None = None, row: dict[str, Any] | None = None) -> Reading:
    said = json.loads(json.dumps(RIGHT)) | (changes or {})
    if row:
        said["rows"][1] |= row
    given = [Given("ask", json.dumps({**said, "rows": {"columns": {}}}), "m"), Given("rows", json.dumps({"rows": said["rows"]}), "m")]
    return settled(KIND, Index(typed_document(BILL)), given, Asking("2026-11-26"))


def test_what_is_right_goes_through() -> None:
    found = read()
    assert not stops(found.findings), found.findings
    assert found.record["rows"][1]["sum"] == Decimal("27.00")


@pytest.mark.parametrize(
    ("changes", "row", "check"),
    [
        ({"customer": "Quillfeather Ferns"}, None, "same words"),
        ({"customer": "Lady fern"}, None, "same words"),
        ({"days": 12}, None, "of another unit"),
        ({"tax_pct": 56}, None, "of another unit"),
        ({}, {"plant": "Royal fern"}, "of another row"),
        ({}, {"pieces": 5}, "of another row"),
        ({}, {"each": 12, "pieces": 2.25}, "type"),
        ({}, {"sum": 2.25}, "product"),
        ({"gross": 67.3}, None, "unsupported"),
        ({"firm": "Quillfeather Ferrets"}, None, "unsupported"),
    ],
)
def test_what_stands_elsewhere_is_found(changes: dict[str, Any], row: dict[str, Any] | None, check: str) -> None:
    found = read(changes, row)
    assert check in {each.check for each in found.findings if each.level == "stop"}, found.findings


def test_a_letter_that_was_typed_wrong_is_taken_from_the_print() -> None:
    found = read({"customer": "Harrowdene Schoxl"})
    assert found.record["customer"] == "Harrowdene School"
    assert any("which is printed, was taken" in each for each in found.changes)


def test_rows_that_add_up_to_nothing_that_is_printed_stop_the_record() -> None:
    found = read(row={"pieces": 12, "each": 15.5, "sum": 186})
    assert {each.check for each in found.findings if each.level == "stop"} & {"sum", "of another row", "unsupported"}


@pytest.mark.parametrize(
    ("line", "stopped"), [("Moss Lane, 28 November 2025", True), ("Date and delivery 28 November 2025", False), ("Due 28 November 2025", False)]
)
def test_a_day_is_not_given_to_a_field_of_which_its_line_says_nothing(line: str, stopped: bool) -> None:
    day = {"type": "string", "format": "date"}
    due = {**day, "type": ["string", "null"], "description": "Delivery date" if "delivery" in line else "Due date"}
    kind = record_type(
        {"type": "object", "properties": {"issued": {**day, "description": "Date of issue"}, "later": due}, "required": ["issued", "later"]}
    )
    said = {"issued": "2025-11-28", "later": "2025-11-28"}
    found = settled(kind, Index(typed_document(f"Quillfeather Ferns\n{line}\n")), [Given("ask", json.dumps(said), "m")], Asking("2026-11-26"))
    assert ("same words" in {each.check for each in found.findings}) == stopped


PARKED = """Moss Lane Garage
Parking fee      16.45
Discount         -3.00
Paid             13.45
"""


@pytest.mark.parametrize(("given", "stopped"), [({"off": 16.45}, True), ({"off": 3}, False), ({"total": 13.45}, False)])
def test_an_amount_that_stands_once_is_not_given_to_two_fields_unless_both_are_sums(given: dict[str, Any], stopped: bool) -> None:
    fields = {"fee": "Parking fee", "off": "Discount", "paid": "Amount paid", "total": "Total to pay"}
    kind = record_type({"type": "object", "properties": {name: {**NUMBER, "description": about} for name, about in fields.items()}})
    said = {"fee": 16.45, "off": 3, "paid": 13.45, **given}
    found = settled(kind, Index(typed_document(PARKED)), [Given("ask", json.dumps(said), "m")], Asking("2026-11-26"))
    assert ("same words" in {each.check for each in found.findings if each.level == "stop"}) == stopped


TICKET = """Fern Line
2 Adult      2 x 21.40
1 Child      1 x 10.70
"""


@pytest.mark.parametrize(("price", "stopped"), [(10.7, False), (1, True)])
def test_a_price_without_cents_among_prices_with_them_is_another_number_of_its_row(price: float, stopped: bool) -> None:
    row = {"who": {"type": "string"}, "count": {"type": "integer", "description": "Quantity"}, "one": {**NUMBER, "description": "Unit price"}}
    kind = record_type({"type": "object", "properties": {"seats": {"type": "array", "items": {"type": "object", "properties": row}}}})
    said = {"seats": [{"who": "Adult", "count": 2, "one": 21.4}, {"who": "Child", "count": 1, "one": price}]}
    found = settled(kind, Index(typed_document(TICKET)), [Given("ask", json.dumps(said), "m")], Asking("2026-11-26"))
    assert ("of another column" in {each.check for each in found.findings if each.level == "stop"}) == stopped
