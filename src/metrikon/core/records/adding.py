"""Arithmetic that nobody told of but that the values show: quantity × price = amount in most rows, rows that add up to a printed total.

Used for lists whose record type says no `products` or `sums` itself. A row that breaks what the other rows show is found wrong.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from itertools import combinations, pairwise, permutations
from math import prod
from typing import Any

from metrikon.core.records.findings import Finding
from metrikon.core.records.meaning import a_share, concept_of
from metrikon.core.records.types import Field, RecordType
from metrikon.core.values.number_words import plain

CENT, PLENTY = Decimal("0.02"), Decimal("0.006")  # how far off a product may be: cents, and its share for rounded prices
EXACT = Decimal("0.005")
MOST_NUMBERS = 12  # of a record that are added up with each other
LEAST_ROWS, MOST_FIELDS = 2, 6
FEW = 4  # rows of another list whose figures are added up with those of the record
SHOWN = 0.6  # share of rows that must show a product before the others are doubted by it


def unsaid(kind: RecordType, record: Mapping[str, Any], stands: Callable[[Decimal], bool]) -> list[Finding]:
    """Findings of arithmetic that rows show. `stands`: whether a number is printed in the document."""
    found = [*_turned_round(kind, record), *_tax_as_total(kind, record)]
    said = {rule["list"] for rule in kind.ours.get("products", ())} | {
        part.split("/*/")[0] for rule in kind.ours.get("sums", ()) for part in rule["parts"]
    }
    for pointer, fields in kind.lists.items():
        rows = record.get(pointer[1:]) if pointer.count("/") == 1 else None
        amounts = [each for each in fields if each.kind == "amount" and each.shape.count("/") == 3][:MOST_FIELDS]
        if pointer in said or not isinstance(rows, list) or len(rows) < LEAST_ROWS or not amounts:
            continue
        shown = shown_product(rows, amounts)
        if shown is not None:
            found += _broken(kind, pointer, rows, *shown)
        found += _total(kind, pointer, rows, amounts, shown, record, stands)
    return found


_BEGIN = re.compile(
    r"(?:^|[^a-z])(?:from|begin|beginn|start|since|von|ab|debut|du|depuis|desde|inicio|da|dal|inizio|van|vanaf|de|fra|fran|od|in)(?:$|[^a-z])"
)
_END = re.compile(r"(?:^|[^a-z])(?:to|until|till|end|ende|bis|fin|au|jusqu|hasta|a|al|fine|tot|tot|einde|ate|til|till|slut|do|out|uit)(?:$|[^a-z])")


def _turned_round(kind: RecordType, record: Mapping[str, Any]) -> Iterator[Finding]:
    """Ends that lie before their beginnings: two dates or months side by side, one called a beginning, the next an end."""
    for pointer, fields in {"": kind.header, **kind.lists}.items():
        for one, two in pairwise(fields):
            if one.kind != two.kind or one.kind not in ("date", "month", "moment") or not (_BEGIN.search(_said(one)) and _END.search(_said(two))):
                continue
            rows = [record] if not pointer else record.get(pointer[1:]) if pointer.count("/") == 1 else None
            for number, row in enumerate(rows or ()):
                start, end = (row.get(each.name) if isinstance(row, Mapping) else None for each in (one, two))
                if isinstance(start, str) and isinstance(end, str) and end[: len(start)] < start[: len(end)]:
                    at = f"{pointer}/{number}" if pointer else ""
                    message = f"{kind.titled(f'{at}/{two.name}')} {end} lies before {one.title} {start}."
                    yield Finding("order", "stop", message, (f"{at}/{two.name}", f"{at}/{one.name}"))


def _said(field: Field) -> str:
    return plain(field.worded)


_STILL = re.compile(
    r"still|current|present|ongoing|until now|to date|bis heute|noch|aktuell|derzeit|laufend|actuel|encore|en cours|actual|sigue|todavia|attual|ancora"
    r"|nog|huidig|heden|ainda|atual|nuvaerende|fortsat|nuvarande|fortfarande|nadal|obecn"
)


def ended(kind: RecordType, record: Mapping[str, Any]) -> Iterator[tuple[dict[str, Any], Field, Field]]:
    """(row, field, end) of what is said to go on still, in a row that gives its end."""
    for pointer, fields in {"": kind.header, **kind.lists}.items():
        rows = [record] if not pointer else record.get(pointer[1:]) if pointer.count("/") == 1 else None
        still = [each for each in fields if each.kind == "yes/no" and _STILL.search(_said(each))]
        ends = [each for each in fields if each.kind in ("date", "month", "moment") and _END.search(_said(each))]
        for row in rows or () if len(still) == len(ends) == 1 else ():
            if isinstance(row, dict) and row.get(still[0].name) is True and re.search(r"\d", str(row.get(ends[0].name) or "")):
                yield row, still[0], ends[0]


def _tax_as_total(kind: RecordType, record: Mapping[str, Any]) -> Iterator[Finding]:
    """Taxes that are as large as all that they are in or on: another total was copied."""
    figures = {
        each.name: abs(Decimal(value))
        for each in kind.header
        if each.kind == "amount" and isinstance(value := record.get(each.name), Decimal | int) and not isinstance(value, bool)
    }
    totals = [each for each in kind.header if figures.get(each.name) and concept_of(each) in ("net", "gross")]
    if not totals:
        return
    largest = max(totals, key=lambda each: figures[each.name])
    for each in kind.header:
        if each.name in figures and concept_of(each) == "tax" and not a_share(each) and figures[each.name] >= figures[largest.name] > 0:
            message = f"{each.title} {record[each.name]} is not less than {largest.title} {record[largest.name]}, but a tax is a part of it."
            yield Finding("tax", "stop", message, (f"/{each.name}", f"/{largest.name}"))


@dataclass(frozen=True)
class Product:
    """Factors and the amount that they come to; less a discount in per cent, or times a third factor, such as weeks."""

    one: Field
    two: Field
    amount: Field
    off: Field | None = None
    times: Field | None = None

    @property
    def factors(self) -> tuple[Field, ...]:
        return (self.one, self.two, *((self.times,) if self.times else ()))

    @property
    def parts(self) -> tuple[Field, ...]:
        return (*self.factors, self.amount, *((self.off,) if self.off else ()))


def shown_product(rows: Sequence[Any], amounts: Sequence[Field]) -> tuple[Product, list[int]] | None:
    """The product that most rows show, and the rows that break it: of two factors, perhaps with a discount, else of three."""
    return _best(rows, _of_two(amounts)) or _best(rows, _of_three(amounts))


def _of_two(amounts: Sequence[Field]) -> Iterator[Product]:
    for one, two in combinations(amounts, 2):
        for amount in amounts:
            if amount not in (one, two):
                yield from (Product(one, two, amount, off) for off in (None, *(each for each in amounts if each not in (one, two, amount))))


def _of_three(amounts: Sequence[Field]) -> Iterator[Product]:
    for one, two, times in combinations(amounts, 3):
        yield from (Product(one, two, amount, None, times) for amount in amounts if amount not in (one, two, times))


def _best(rows: Sequence[Any], products: Iterable[Product]) -> tuple[Product, list[int]] | None:
    best: tuple[int, Product, list[int]] | None = None
    for each in products:
        holds, breaks, telling = _tried(rows, each)
        if holds >= LEAST_ROWS and telling and holds >= SHOWN * (holds + len(breaks)) and (best is None or holds > best[0]):
            best = (holds, each, breaks)
    return (best[1], best[2]) if best else None


def _tried(rows: Sequence[Any], product: Product) -> tuple[int, list[int], bool]:
    holds, breaks, telling = 0, [], False
    for number, row in enumerate(rows):
        values = [row.get(each.name) if isinstance(row, dict) else None for each in (*product.factors, product.amount)]
        figures = [Decimal(value) for value in values if isinstance(value, Decimal | int) and not isinstance(value, bool)]
        if len(figures) < len(values):
            continue
        *factors, c = figures
        less = row.get(product.off.name) if product.off is not None else None
        share = 1 - Decimal(less) / 100 if isinstance(less, Decimal | int) and 0 <= less <= 100 else Decimal(1)
        if abs(abs(prod(factors, start=share)) - abs(c)) <= max(CENT, PLENTY * abs(c)):
            holds += 1
            telling = telling or (all(abs(each) != 1 for each in factors[:2]) and c != 0)
        else:
            breaks.append(number)
    return holds, breaks, telling


def _broken(kind: RecordType, pointer: str, rows: Sequence[Any], product: Product, breaks: Sequence[int]) -> Iterator[Finding]:
    amount = product.amount
    for number in breaks:
        row = rows[number]
        told = " × ".join(f"{each.title} {row[each.name]}" for each in product.factors)
        message = f"Row {number + 1}: {told} is not {amount.title} {row[amount.name]}, as it is in the other rows."
        yield Finding("product", "stop", message, tuple(f"{pointer}/{number}/{each.name}" for each in (*product.factors, amount)))


def _with_more(total: Decimal, header: Sequence[Decimal]) -> bool:
    """Whether a sum of rows comes to one number of the record with two or three others added or taken off: carriage, a voucher, a tax."""
    if len(header) > MOST_NUMBERS:
        return False
    signed = [*header, *(-each for each in header)]
    goals = {abs(each) for each in header}
    reached = ((abs(total + one + two), goals - {abs(one), abs(two)}) for one, two in combinations(signed, 2))
    return any(abs(sum_ - goal) <= EXACT for sum_, others in reached for goal in others)


def _of_few(pointer: str, record: Mapping[str, Any]) -> list[Decimal]:
    """The figures of other lists that have few rows, such as taxes by their rates."""
    lists = [rows for name, rows in record.items() if isinstance(rows, list) and f"/{name}" != pointer and 0 < len(rows) <= FEW]
    cells = [value for rows in lists for row in rows if isinstance(row, Mapping) for value in row.values()]
    return [Decimal(value) for value in cells if isinstance(value, Decimal | int) and not isinstance(value, bool)]


def _total(
    kind: RecordType,
    pointer: str,
    rows: Sequence[Any],
    amounts: Sequence[Field],
    shown: tuple[Product, list[int]] | None,
    record: Mapping[str, Any],
    stands: Callable[[Decimal], bool],
) -> Iterator[Finding]:
    """Amounts of rows that add up to nothing that is printed or given, where they are what the rows come to."""
    if shown is None:
        return
    amount = shown[0].amount
    values = [row.get(amount.name) if isinstance(row, dict) else None for row in rows]
    if len(rows) < LEAST_ROWS or any(not isinstance(value, Decimal | int) or isinstance(value, bool) for value in values):
        return
    total = sum((Decimal(value) for value in values if value is not None), Decimal(0))
    header = [Decimal(value) for value in record.values() if isinstance(value, Decimal | int) and not isinstance(value, bool)]
    header += _of_few(pointer, record)
    reached = [
        *header,
        *(one + two for one, two in permutations(header, 2) if len(header) <= 12),
        *(one - two for one, two in permutations(header, 2) if len(header) <= 12),
    ]
    if stands(total) or stands(-total) or any(abs(abs(each) - abs(total)) <= CENT for each in reached) or _with_more(total, header):
        return
    message = f"{amount.title} of all rows comes to {total}, which stands nowhere in the document."
    yield Finding("sum", "stop", message, tuple(f"{pointer}/{number}/{amount.name}" for number in range(len(rows)))[:4])
