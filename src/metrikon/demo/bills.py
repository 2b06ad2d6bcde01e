"""A made-up bill as its sender knows it: the source of the drawn document and of the right record."""

from __future__ import annotations

import datetime
from dataclasses import dataclass, field
from decimal import ROUND_HALF_UP, Decimal
from typing import Any

CENT = Decimal("0.01")
GARDEN = ("Ellerby Botanic Garden", "Accounts Office", "Glasshouse Lane 4", "EL7 2QD Ellerby")


@dataclass(frozen=True)
class Sender:
    """A supplier: everything that stands in its letterhead and footer."""

    name: str
    street: str
    place: str
    tax_id: str
    site: str
    iban: str


@dataclass(frozen=True)
class Row:
    """One line of a bill. `amount` is quantity times price unless the sender got it wrong."""

    part: str
    text: str
    quantity: Decimal
    unit: str
    price: Decimal

    @property
    def amount(self) -> Decimal:
        return (self.quantity * self.price).quantize(CENT, ROUND_HALF_UP)


@dataclass(frozen=True)
class Bill:
    """One invoice or credit note."""

    sender: Sender
    number: str
    date: datetime.date
    rows: tuple[Row, ...]
    currency: str = "EUR"
    rate: Decimal = Decimal(20)
    kind: str = "invoice"
    due: datetime.date | None = None
    order: str | None = None
    customer: str | None = None
    delivered: datetime.date | None = None
    off_by: Decimal = Decimal(0)  # how far the printed total is from the right sum
    notes: tuple[str, ...] = field(default=())

    @property
    def net(self) -> Decimal:
        return sum((row.amount for row in self.rows), Decimal(0)).quantize(CENT)

    @property
    def tax(self) -> Decimal:
        return (self.net * self.rate / 100).quantize(CENT, ROUND_HALF_UP)

    @property
    def total(self) -> Decimal:
        return self.net + self.tax + self.off_by


def right_record(bill: Bill, columns: tuple[str, ...]) -> dict[str, Any]:
    """What a careful person would read from the drawn bill; `columns` are those its table has."""
    record: dict[str, Any] = {
        "document_type": bill.kind,
        "vendor": bill.sender.name,
        "vendor_tax_id": bill.sender.tax_id,
        "number": bill.number,
        "date": bill.date.isoformat(),
        "currency": bill.currency,
        "net": bill.net,
        "tax": bill.tax,
        "total": bill.total,
    }
    if bill.due:
        record["due_date"] = bill.due.isoformat()
    if bill.order:
        record["order_number"] = bill.order
    record["lines"] = [_right_row(row, columns) for row in bill.rows]
    return record


def _right_row(row: Row, columns: tuple[str, ...]) -> dict[str, Any]:
    right: dict[str, Any] = {"description": row.text}
    if "part" in columns:
        right["part_number"] = row.part
    if "quantity" in columns:
        right["quantity"] = row.quantity
    if "price" in columns:
        right["unit_price"] = row.price
    right["amount"] = row.amount
    return right
