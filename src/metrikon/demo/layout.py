"""What a bill looks like: choices that two PDF producers carry out, each in its own way."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from metrikon.demo.bills import Bill, Row
from metrikon.demo.wording import LABELS, printed_date, printed_money, printed_number, printed_quantity


@dataclass(frozen=True)
class Layout:
    """One look. `meta`: "side" (label and value in two columns), "lines" ("label: value"), or "grid" (labels over values)."""

    producer: str = "canvas"
    language: str = "en"
    numbers: str = "en"
    dates: str = "words"
    money: str = "before"  # where the currency stands in the totals
    head: str = "left"  # where the sender stands: "left", "right", "centre"
    meta: str = "side"
    columns: tuple[str, ...] = ("part", "text", "quantity", "price", "amount")
    ruled: str = "lines"  # "lines", "boxes", "zebra", "none"
    font: str = "sans"
    totals: str = "right"  # "right" block or "table" (in the columns of the table)
    title: str = "big"  # "big", or "inline" with the number beside it
    carried: bool = False  # print the sum so far where a page breaks
    picks: dict[str, int] = field(default_factory=dict)  # which wording of each label

    def label(self, name: str, **values: str) -> str:
        words = LABELS[self.language][name]
        return words[self.picks.get(name, 0) % len(words)].format(**values)


RIGHT_ALIGNED = ("quantity", "price", "amount", "rate")


def meta_pairs(bill: Bill, look: Layout) -> list[tuple[str, str]]:
    """Label and value of what stands above the table."""

    def on(value: object) -> str:
        return printed_date(value, look.dates, look.language)  # type: ignore[arg-type]

    pairs = [] if look.title == "inline" and bill.kind == "invoice" else [(look.label("number"), bill.number)]
    pairs.append((look.label("date"), on(bill.date)))
    if bill.delivered:
        pairs.append((look.label("delivered"), on(bill.delivered)))
    if bill.customer:
        pairs.append((look.label("customer"), bill.customer))
    if bill.order:
        pairs.append((look.label("order"), bill.order))
    if bill.due:
        pairs.append((look.label("due"), on(bill.due)))
    return pairs


def title(bill: Bill, look: Layout) -> str:
    """The heading of the bill; with the number when it stands inline."""
    words = look.label(bill.kind)
    return f"{look.label('number')} {bill.number}" if look.title == "inline" and bill.kind == "invoice" else words


def total_pairs(bill: Bill, look: Layout) -> list[tuple[str, str]]:
    """Label and amount of the totals, the grand total last."""
    rate = printed_quantity(bill.rate, look.numbers)

    def money(value: object) -> str:
        return printed_money(value, look.numbers, bill.currency, look.money)  # type: ignore[arg-type]

    return [
        (look.label("net"), money(bill.net)),
        (look.label("tax", r=rate), money(bill.tax)),
        (look.label("total"), money(bill.total)),
    ]


def cell(row: Row, column: str, position: int, look: Layout) -> str:
    """What one cell of the table shows."""
    return {
        "pos": str(position),
        "part": row.part,
        "text": row.text,
        "quantity": printed_quantity(row.quantity, look.numbers),
        "unit": row.unit,
        "price": printed_number(row.price, look.numbers),
        "amount": printed_number(row.amount, look.numbers),
    }[column]


def table(bill: Bill, look: Layout) -> Iterator[list[str]]:
    """Cells of the table, row by row."""
    for position, row in enumerate(bill.rows, 1):
        yield [cell(row, column, position, look) for column in look.columns]


def footer_lines(bill: Bill, look: Layout) -> list[str]:
    """What stands at the foot of the page about the sender."""
    sender = bill.sender
    return [
        f"{sender.name}  ·  {sender.street}  ·  {sender.place}",
        f"{look.label('tax id')} {sender.tax_id}  ·  IBAN {sender.iban}  ·  {sender.site}",
    ]
