"""Amounts that follow from other amounts: sums, differences, products, shares, changes in per cent, counts at their prices."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from itertools import combinations, permutations

from metrikon.core.extraction.grounding.numbers_of import (
    Figure,
    Sought,
    counts_by_line,
    figures_of_rows,
    of_lists,
    of_record,
    of_row,
    on_lines_of,
    prices_printed,
    shares_printed,
)
from metrikon.core.records.meaning import MONEY, a_share, akin, concept_of, stems_of

CENT, EXACT = Decimal("0.0051"), Decimal("0.004")  # what is multiplied is rounded to a cent, what is added up is not
MOST_PAIRS, MOST_DIFFERENCES = 12, 40  # of numbers that are tried with each other, and with prices
SMALL = 10  # whole numbers below it are counted or said, and hardly ever two others together
LEAST = 100  # a whole number below it is soon a product of others by chance
HUNDRED = Decimal(100)


def _by_chance(value: Decimal, least: int) -> bool:
    """Whether a number is soon come to by chance: a small whole one."""
    return value == int(value) and abs(value) < least


def in_row(sought: Sought, value: Decimal) -> Iterator[str]:
    """What two other numbers of the row come to."""
    for a, b in permutations(of_row(sought)[:6], 2):
        if abs(a.value / b.value - value) <= CENT and b.value != 1:
            yield f"{a.name} divided by {b.name}"
        if a.name < b.name and abs(a.value * b.value - value) <= CENT and a.value != 1 and b.value != 1:
            yield f"{a.name} times {b.name}"
        if abs(a.value * b.value / 100 - value) <= CENT and 0 < b.value < 100:
            yield f"{b.name} per cent of {a.name}"
        if _differ(a, b, value):
            yield f"{a.name} less {b.name}"


def _differ(a: Figure, b: Figure, value: Decimal) -> bool:
    """Whether one amount of money of a row is so much more than another; nothing where both are the same."""
    money = {concept_of(a.field), concept_of(b.field)} <= MONEY or (a.value != int(a.value) and b.value != int(b.value))
    return money and abs(a.value - b.value - value) <= EXACT and (value == 0 or not _by_chance(value, SMALL))


def together(sought: Sought, value: Decimal) -> Iterator[str]:
    """Two numbers of the record together, or one less the other; of small ones only those of the value's own object."""
    if a_share(sought.field):
        return
    others = of_record(sought)
    for a, b in combinations(_near(sought, others) if _by_chance(value, SMALL) else others, 2):
        if abs(a.value + b.value - value) <= EXACT:
            yield f"{a.name} and {b.name} together"
        if abs(abs(a.value - b.value) - abs(value)) <= EXACT and a.value != b.value:
            yield f"{a.name} less {b.name}"


def three_together(sought: Sought, value: Decimal) -> Iterator[str]:
    """Three numbers of the value's own object together."""
    for three in combinations(_near(sought, of_record(sought)), 3):
        if not _by_chance(value, SMALL) and abs(sum(each.value for each in three) - value) <= EXACT:
            yield f"{', '.join(each.name for each in three)} together"


def multiplied(sought: Sought, value: Decimal) -> Iterator[str]:
    """A number of the record so many times, or in so many parts."""
    if _by_chance(value, LEAST):
        return
    for a, b in permutations(of_record(sought), 2):
        if a.name < b.name and (a.counts or b.counts) and 1 not in (a.value, b.value) and abs(a.value * b.value - value) <= CENT:
            yield f"{a.name} times {b.name}"
        if b.counts and 1 < b.value <= LEAST and abs(a.value / b.value - value) <= CENT:
            yield f"{a.name} divided by {b.name}"


def _near(sought: Sought, others: list[Figure]) -> list[Figure]:
    """The numbers of the object that a value stands in; none for one that stands in the record itself."""
    above = sought.field.shape.rsplit("/", 1)[0]
    return [each for each in others if above and each.field.shape.rsplit("/", 1)[0] == above]


def less_on_its_line(sought: Sought, value: Decimal) -> Iterator[str]:
    """A count less another number of its line, for a field that bears its name: "3 adults (1 of them free)"."""
    if value != int(value):
        return
    for each in of_record(sought):
        if each.counts and each.value > value and akin(each.field.worded, sought.field.worded):
            for number in on_lines_of(each.value, sought.index):
                if each.value - number == value:
                    yield f"{each.name} less {number}"


def on_one_line(sought: Sought, value: Decimal) -> Iterator[str]:
    """Two or three counts of one line together, where the line has a word of the field: "peppers (10 packets) and beans (6)"."""
    if value != int(value) or "integer" not in sought.field.types:
        return
    for text, numbers in counts_by_line(sought.index):
        for some in (each for count in (2, 3) for each in combinations(numbers, count)):
            if sum(some) == value and akin(text, sought.field.worded):
                yield f"{' and '.join(map(str, some))} together"


def of_one_name(sought: Sought, value: Decimal) -> Iterator[str]:
    """A count less another, where all three bear one name in different objects: packets ordered, sent and missing."""
    if value != int(value):
        return
    named = [each for each in of_record(sought) if each.counts and each.field.name == sought.field.name]
    for a, b in permutations(named, 2):
        if a.value - b.value == value:
            yield f"{a.name} less {b.name}"


def each_of(sought: Sought, value: Decimal) -> Iterator[str]:
    """An amount of a row for each of a count that the field names: the price of the bus for each child."""
    counts = [each for each in of_record(sought) if each.counts and each.value > 1 and akin(each.field.worded, sought.field.worded)]
    for count in counts:
        for each in of_lists(sought):
            if abs(each.value / count.value - value) <= CENT:
                yield f"{each.name} divided by {count.name}"


def of_a_row(sought: Sought, value: Decimal) -> Iterator[str]:
    """What two numbers of one row of a short list come to: the price of a night from the amount for two."""
    if _by_chance(value, SMALL):
        return
    rows: dict[str, list[Figure]] = {}
    for pointer, figure in figures_of_rows(sought):
        rows.setdefault(pointer.rsplit("/", 1)[0], []).append(figure)
    for a, b in (pair for some in rows.values() for pair in permutations(some, 2) if pair[1].counts and pair[1].value > 1):
        if abs(a.value / b.value - value) <= CENT:
            yield f"{a.name} divided by {b.name}"
        if a.name < b.name and abs(a.value * b.value - value) <= CENT:
            yield f"{a.name} times {b.name}"


def with_share(sought: Sought, value: Decimal) -> Iterator[str]:
    """A share of another number, or that number with a share added or taken off; the share is printed."""
    if a_share(sought.field) or _by_chance(value, SMALL):
        return
    shares = [*(each.value for each in of_record(sought) if each.share), *shares_printed(sought.index)]
    for each in (*of_record(sought), *of_lists(sought)):
        for share in dict.fromkeys(shares) if not each.share else ():
            part = each.value * share / HUNDRED
            if abs(part - value) <= CENT:
                yield f"{share} % of {each.name}"
            elif abs(each.value + part - value) <= CENT:
                yield f"{each.name} and {share} %"
            elif abs(each.value - part - value) <= CENT:
                yield f"{each.name} less {share} %"


def changed_by(sought: Sought, value: Decimal) -> Iterator[str]:
    """So many per cent by which one number is more or less than another, or that it is of another."""
    if not a_share(sought.field):
        return
    step = Decimal("0.51") if value == int(value) else Decimal("0.051") if value * 10 == int(value * 10) else Decimal("0.0051")
    for a, b in permutations([each for each in of_record(sought) if not each.share], 2):
        if abs(abs(a.value - b.value) / abs(b.value) * HUNDRED - abs(value)) <= step:
            yield f"how much {a.name} differs from {b.name}, in per cent"
        elif abs(a.value) < abs(b.value) and abs(abs(a.value / b.value) * HUNDRED - abs(value)) <= step and not _by_chance(value, SMALL):
            yield f"{a.name} of {b.name}, in per cent"


def paired(sought: Sought, value: Decimal) -> Iterator[str]:
    """Counts at the prices that bear their names, added up: adults at the price for adults and children at theirs."""
    if _by_chance(value, SMALL):
        return
    others = of_record(sought)
    pairs = [(a, b) for a, b in combinations(others, 2) if _alike(a, b)][:MOST_PAIRS]
    for some in (each for count in (2, 3) for each in combinations(pairs, count)):
        if abs(sum(a.value * b.value for a, b in some) - value) <= CENT:
            yield " and ".join(f"{a.name} times {b.name}" for a, b in some)


def _alike(a: Figure, b: Figure) -> bool:
    """Whether two numbers of different objects bear one name, such as "groupe adultes" and "prix adulte"."""
    apart = a.field.shape.rsplit("/", 1)[0] != b.field.shape.rsplit("/", 1)[0]
    return apart and bool(stems_of((a.field.worded,)) & stems_of((b.field.worded,)))


def priced(sought: Sought, value: Decimal) -> Iterator[str]:
    """A count of the record at a price that only the document has; that less or more than another amount of the record."""
    if a_share(sought.field) or _by_chance(value, LEAST):
        return
    for name, count in _counts(sought):
        for price in _prices(sought):
            if price != 1 and abs(count * price - value) <= CENT:
                yield f"{name} times {price}"


def _counts(sought: Sought) -> list[tuple[str, Decimal]]:
    """The counts of the record, and of the value's own object how many more one is than another."""
    counts = [each for each in of_record(sought) if each.counts and each.value > 1]
    more = [(f"({a.name} less {b.name})", a.value - b.value) for a, b in permutations(_near(sought, counts), 2) if a.value - b.value > 1]
    return [*((each.name, each.value) for each in counts), *more[:MOST_DIFFERENCES]]


def _prices(sought: Sought) -> list[Decimal]:
    """The prices of the document and those of the record."""
    own = (each.value for each in of_record(sought) if concept_of(each.field) in MONEY and not each.share)
    return list(dict.fromkeys([*prices_printed(sought.index), *own]))
