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


def rows_of(text: str, fields: dict[str, Any], rows: list[dict[str, Any]], more: dict[str, Any] | None = None) -> list[str]:
    """The checks that stop a list of rows, with fields of the record beside it."""
    properties = {
        "plans": {"type": "array", "items": {"type": "object", "properties": fields}},
        **{name: schema for name, (schema, _) in (more or {}).items()},
    }
    record = {"plans": rows, **{name: value for name, (_, value) in (more or {}).items()}}
    found = settled(
        record_type({"type": "object", "properties": properties}),
        Index(typed_document(text)),
        [Given("ask", json.dumps(record), "m")],
        Asking("2026-05-01"),
    )
    return [each.check for each in found.findings if each.level == "stop"]


PLANS = """Fernhill Home
Fernhill Harbour
Fernhill Research

Feature         Home        Harbour     Research
Beds            1           12          unlimited
History         30 days     2 years     10 years
"""
PLAN = {"name": {"type": "string"}, "history": {"type": "string"}}


def test_rows_may_be_the_columns_of_a_table() -> None:
    rows = [
        {"name": f"Fernhill {name}", "history": history} for name, history in (("Home", "30 days"), ("Harbour", "2 years"), ("Research", "10 years"))
    ]
    assert not rows_of(PLANS, PLAN, rows)


def test_rows_that_are_numbered_need_no_figure_of_their_own() -> None:
    text = "5 letters\nAda writes of ferns\nBen writes of moss\nCleo writes of oaks"
    fields = {"number": {"type": "integer"}, "who": {"type": "string"}, "of": {"type": "string"}}
    rows = [{"number": n, "who": who, "of": of} for n, (who, of) in enumerate((("Ada", "ferns"), ("Ben", "moss"), ("Cleo", "oaks")), 1)]
    assert not rows_of(text, fields, rows)
    assert rows_of(text, fields, [*rows[:2], {**rows[2], "number": 7}])


COURSES = "Pruning    10-15    850 kr    fully booked\nPotting    18-20    1200 kr   4 left\nBats       21-22    300 kr    7 left"
COURSE = {"title": {"type": "string"}, "starts": {"type": "string", "pattern": "^[0-9]{2}:[0-9]{2}$"}, "price": NUMBER, "left": {"type": "integer"}}
TOLD = [
    {"title": "Pruning", "starts": "10:00", "price": 850, "left": 0},
    {"title": "Potting", "starts": "18:00", "price": 1200, "left": 4},
    {"title": "Bats", "starts": "21:00", "price": 300, "left": 7},
]


@pytest.mark.parametrize(("changes", "stopped"), [({}, False), ({"left": 0}, True), ({"starts": "18:00"}, True)])
def test_hours_and_words_for_nought_belong_to_their_rows(changes: dict[str, Any], stopped: bool) -> None:
    assert bool(rows_of(COURSES, COURSE, [*TOLD[:2], {**TOLD[2], **changes}])) == stopped


@pytest.mark.parametrize(
    ("name", "value", "stopped"),
    [
        ("number_of_plans", 3, False),
        ("number_of_plans", 6, True),
        ("number_of_plans", 2350, False),
        ("number_of_new_plans", 2, False),
        ("pages", 9, True),
    ],
)
def test_a_count_agrees_with_its_list(name: str, value: int, stopped: bool) -> None:
    """Pieces may be counted in place of rows, and some rows only; a number that counts nothing must stand in the document."""
    kept = rows_of(COURSES, COURSE, TOLD, {name: ({"type": "integer"}, value)})
    assert ("count" in kept or "unsupported" in kept) == stopped


def test_a_field_may_say_which_row_is_meant() -> None:
    more = {"present_plan": ({"type": "string"}, "Potting course"), "cheapest_price": (NUMBER, 300)}
    text = COURSES.replace("Potting    ", "Potting course    ")
    rows = [TOLD[0], {**TOLD[1], "title": "Potting course"}, TOLD[2]]
    assert not rows_of(text, COURSE, rows, more)
    assert "same words" in rows_of(text, COURSE, rows, {"seller": ({"type": "string"}, "Potting course")})


@pytest.mark.parametrize(("value", "stopped"), [("Pruning and potting", True), ("PRUNE", False), ("A 4 left", False)])
def test_a_number_that_is_words_stops_the_record(value: str, stopped: bool) -> None:
    kept = rows_of(COURSES + "\nPruning and potting, PRUNE, A 4 left", COURSE, TOLD, {"order_number": ({"type": "string"}, value)})
    assert ("no figure" in kept) == stopped


@pytest.mark.parametrize(("months", "stopped"), [(16, False), (2015, True)])
def test_a_year_is_no_number_of_months(months: int, stopped: bool) -> None:
    kept = rows_of("Founded 2015\nTrial period 16 months\n" + COURSES, COURSE, TOLD, {"trial_months": ({"type": "integer"}, months)})
    assert ("of another unit" in kept) == stopped


EXPENSE = record_type(
    {
        "title": "expense",
        "type": "object",
        "required": ["total", "bought"],
        "properties": {
            "total": {**NUMBER, "description": "What was spent in all"},
            "currency": {"type": ["string", "null"], "description": "ISO 4217"},
            "bought": {"type": "array", "items": {"type": "object", "properties": {"what": {"type": "string"}, "amount": NUMBER}}},
        },
    }
)


def spent(text: str, total: Any, bought: list[tuple[str, Any]], currency: str | None = None) -> Reading:
    """A typed message with its record."""
    given = {"total": total, "currency": currency, "bought": [{"what": what, "amount": amount} for what, amount in bought]}
    return settled(EXPENSE, Index(typed_document(text)), [Given("ask", json.dumps(given, default=str), "m")], Asking("2026-04-30"))


@pytest.mark.parametrize(
    ("text", "total", "what", "currency"),
    [
        ("12 on potting soil", 12, "potting soil", None),
        ("Blumenerde 12,50 €", "12.50", "Blumenerde", "EUR"),
        ("spent 30 euros on gloves", 30, "gloves", "EUR"),
    ],
)
def test_a_total_may_be_the_amount_of_the_only_thing_that_was_bought(text: str, total: Any, what: str, currency: str | None) -> None:
    found = spent(text, total, [(what, total)], currency)
    assert not stops(found.findings), [each.message for each in found.findings]


def test_a_total_is_not_the_amount_of_one_thing_where_more_stands_there() -> None:
    assert stops(spent("12 on potting soil, 16 with the labels", 12, [("potting soil", 12)]).findings)
    assert stops(spent("12 on potting soil and 4 on labels", 12, [("potting soil", 12), ("labels", 4)]).findings)
