"""Arithmetic that a record type says nothing of: what the values of a record show by themselves."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

import pytest

from metrikon.core.records.adding import ended, unsaid
from metrikon.core.records.types import record_type

ROWS = {
    "type": "array",
    "items": {
        "type": "object",
        "properties": {"plant": {"type": "string"}, "count": {"type": "number"}, "price": {"type": "number"}, "amount": {"type": "number"}},
    },
}
KIND = record_type(
    {
        "type": "object",
        "properties": {
            "rows": ROWS,
            "net_total": {"type": "number"},
            "vat_sum": {"type": "number", "description": "VAT altogether (sum of the rates)"},
            "vat_rate": {"type": "number"},
            "grand_total": {"type": "number", "description": "Total with VAT"},
            "hired_from": {"type": "string", "format": "date"},
            "hired_to": {"type": "string", "format": "date"},
        },
    },
    "hire",
)
RIGHT: dict[str, Any] = {
    "rows": [
        {"plant": "Aster", "count": 3, "price": Decimal("2.50"), "amount": Decimal("7.50")},
        {"plant": "Salvia", "count": 4, "price": Decimal("1.25"), "amount": Decimal("5.00")},
        {"plant": "Iris", "count": 2, "price": Decimal("6.00"), "amount": Decimal("12.00")},
    ],
    "net_total": Decimal("24.50"),
    "vat_sum": Decimal("4.90"),
    "vat_rate": Decimal("20"),
    "grand_total": Decimal("29.40"),
    "hired_from": "2026-03-02",
    "hired_to": "2026-03-05",
}


def found(**changed: Any) -> list[tuple[str, tuple[str, ...]]]:
    return [(each.check, each.fields) for each in unsaid(KIND, {**RIGHT, **changed}, lambda number: False)]


def row(number: int, **changed: Any) -> list[dict[str, Any]]:
    return [{**each, **(changed if at == number else {})} for at, each in enumerate(RIGHT["rows"])]


def test_a_record_that_adds_up_is_not_doubted() -> None:
    assert found() == []


def test_a_row_that_breaks_the_product_of_the_others_is_stopped() -> None:
    assert ("product", ("/rows/1/count", "/rows/1/price", "/rows/1/amount")) in found(rows=row(1, count=5))


def test_rows_that_add_up_to_nothing_are_stopped_and_not_when_the_total_is_printed() -> None:
    one_less = RIGHT["rows"][:2]
    assert [check for check, _ in found(rows=one_less)] == ["sum"]
    assert unsaid(KIND, {**RIGHT, "rows": one_less}, lambda number: number == Decimal("12.50")) == []


def test_an_end_before_its_beginning_is_stopped() -> None:
    assert found(hired_to="2026-03-01") == [("order", ("/hired_to", "/hired_from"))]


@pytest.mark.parametrize("tax", ["29.40", "24.50", "-29.40"])
def test_a_tax_as_large_as_the_total_is_another_total(tax: str) -> None:
    wanted = [] if Decimal(tax) == Decimal("24.50") else [("tax", ("/vat_sum", "/grand_total"))]
    assert found(vat_sum=Decimal(tax)) == wanted


def test_a_rate_is_no_tax_though_its_figure_is_larger_than_the_total() -> None:
    small = {"rows": [], "net_total": Decimal("10"), "vat_sum": Decimal("2"), "grand_total": Decimal("12")}
    assert found(**small, vat_rate=Decimal("20")) == []


def test_what_has_its_end_does_not_go_on_still() -> None:
    month = {"type": "string", "pattern": r"^\d{4}-\d{2}$"}
    posts = {"type": "array", "items": {"type": "object", "properties": {"from_month": month, "to_month": month, "still_there": {"type": "boolean"}}}}
    kind = record_type({"type": "object", "properties": {"posts": posts}})
    rows = [{"from_month": "2019-02", "to_month": "2021-04", "still_there": True}, {"from_month": "2021-05", "still_there": True}]
    assert [row for row, _, _ in ended(kind, {"posts": rows})] == rows[:1]
