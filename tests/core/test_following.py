"""Values that stand nowhere and follow from others: each way bears out what is right, and not the number beside it."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

import pytest

from metrikon.core.extraction.grounding.days_from import terms_of
from metrikon.core.extraction.grounding.ground import ground
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.pointers import get
from metrikon.core.records.types import RecordType, record_type
from metrikon.readers.registry import read
from tests.helpers import typed_document

NUMBER, WHOLE, DAY = {"type": "number"}, {"type": "integer"}, {"type": "string", "format": "date"}
MONTH = {"type": "string", "pattern": r"^\d{4}-(0[1-9]|1[0-2])$"}
CLOCK = {"type": "string", "pattern": r"^\d{2}:\d{2}$"}
MOMENT = {"type": "string", "pattern": r"^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}$"}


def kind_of(fields: dict[str, Any]) -> RecordType:
    """A record type from fields; a dict without a type is an object of its own, a list is a list of such."""

    def part(value: Any) -> dict[str, Any]:
        if isinstance(value, list):
            return {"type": "array", "items": part(value[0])}
        return value if "type" in value else {"type": "object", "properties": {name: part(inner) for name, inner in value.items()}}

    return record_type(part(fields))


def borne_out(text: str, fields: dict[str, Any], record: dict[str, Any], at: str, value: Any = None) -> Evidence:
    """The evidence for a value of a record, or for another in its place."""
    index = Index(typed_document(text))
    made = record if value is None else put(record, at, value)
    assert get(made, at) is not None
    return ground(kind_of(fields), made, index)[at]


def put(record: Any, at: str, value: Any) -> Any:
    """A record with another value at a pointer."""
    head, _, rest = at[1:].partition("/")
    if isinstance(record, list):
        return [put(each, f"/{rest}", value) if n == int(head) else each for n, each in enumerate(record)]
    return {name: (put(each, f"/{rest}", value) if rest else value) if name == head else each for name, each in record.items()}


GROUP = {"group": {"adults": WHOLE, "children": WHOLE, "all": WHOLE}, "prices": {"adult": NUMBER, "child": NUMBER, "total": NUMBER}}
VISIT = {"group": {"adults": 27, "children": 14, "all": 41}, "prices": {"adult": Decimal("6.5"), "child": 3, "total": Decimal("217.5")}}
PLANTS = {"plants": [{"plant": {"type": "string"}, "ordered": WHOLE, "sent": WHOLE, "price": NUMBER}], "number_of_plants": WHOLE, "missing": WHOLE}
ORDER = {
    "plants": [{"plant": "Fern", "ordered": 40, "sent": 34, "price": 18}, {"plant": "Moss", "ordered": 15, "sent": 12, "price": 22}],
    "number_of_plants": 2,
    "missing": 9,
}


@pytest.mark.parametrize(
    ("text", "fields", "record", "at", "wrong"),
    [
        # together, less, times, in parts
        ("27 adults at 6.50 and 14 children at 3.00", GROUP, VISIT, "/group/all", 42),
        ("27 adults at 6.50 and 14 children at 3.00", GROUP, VISIT, "/prices/total", Decimal("218.5")),
        ("40 bags ordered, 36 came", {"bags": {"ordered": WHOLE, "came": WHOLE, "gone": WHOLE}}, {"bags": {"ordered": 40, "came": 36, "gone": 4}}, "/bags/gone", 5),
        ("We send 7 bags at EUR 18.90 a bag", {"bags": WHOLE, "worth": NUMBER}, {"bags": 7, "worth": Decimal("132.3")}, "/worth", Decimal("133.3")),
        # shares, and what one is more than another
        ("Price 1400.00, deposit 20 %", {"price": NUMBER, "deposit": NUMBER}, {"price": 1400, "deposit": 280}, "/deposit", 290),
        ("Rent goes up from 340 to 365", {"old": NUMBER, "new": NUMBER, "rise_percent": NUMBER}, {"old": 340, "new": 365, "rise_percent": Decimal("7.35")}, "/rise_percent", Decimal("8.35")),
        # what the description names
        ("Pay 29.00 an hour, 40 hours", {"hourly": NUMBER, "hours": WHOLE, "yearly": {**NUMBER, "description": "for 52 weeks"}}, {"hourly": 29, "hours": 40, "yearly": 60320}, "/yearly", 60330),
        # counts and sums of rows
        ("Fern 40 34 18\nMoss 15 12 22", PLANTS, ORDER, "/number_of_plants", 3),
        ("Fern 40 34 18\nMoss 15 12 22", PLANTS, ORDER, "/missing", 8),
        # days and months by terms, before and after, ages
        ("Ordered 1 March 2026, invoice of 3 March 2026, payable within 14 days", {"dated": DAY, "due": DAY}, {"dated": "2026-03-03", "due": "2026-03-17"}, "/due", "2026-03-18"),
        ("Party on 12 September 2026, the balance four weeks before it", {"party": DAY, "balance": DAY}, {"party": "2026-09-12", "balance": "2026-08-15"}, "/balance", "2026-08-16"),
        ("Revised in May 2022 (valid 5 years)", {"valid_until": MONTH}, {"valid_until": "2027-05"}, "/valid_until", "2027-06"),
        ("Born 17.02.1990, hired 01.10.2026", {"born": DAY, "hired": DAY, "age": WHOLE}, {"born": "1990-02-17", "hired": "2026-10-01", "age": 36}, "/age", 37),
        ("Post held 02/2012 to 05/2018", {"post": {"begin": MONTH, "end": MONTH, "months": WHOLE}}, {"post": {"begin": "2012-02", "end": "2018-05", "months": 76}}, "/post/months", 78),
        # times
        ("Concert at 19:30, the doors open an hour before", {"concert": CLOCK, "doors": CLOCK}, {"concert": "19:30", "doors": "18:30"}, "/doors", "18:40"),
        ("Feast on Saturday 19 September 2026, tent from Friday 13.00", {"feast": DAY, "tent": MOMENT}, {"feast": "2026-09-19", "tent": "2026-09-18T13:00"}, "/tent", "2026-09-17T13:00"),
    ],
    ids=lambda each: each if isinstance(each, str) and each.startswith("/") else "",
)  # fmt: skip
def test_what_follows_from_other_values_is_borne_out_and_what_does_not_is_not(
    text: str, fields: dict[str, Any], record: dict[str, Any], at: str, wrong: Any
) -> None:
    found = borne_out(text, fields, record, at)
    assert found.how == "derived"
    assert found.quote
    assert not borne_out(text, fields, record, at, wrong).found


def test_what_follows_from_what_follows_is_borne_out_too() -> None:
    fields = {"guests": WHOLE, "hire": NUMBER, "meals": NUMBER, "total": NUMBER, "deposit": NUMBER}
    record = {"guests": 85, "hire": 1600, "meals": 2040, "total": 3640, "deposit": 728}
    text = "85 guests. Hire GBP 1,600, meals GBP 24 a head. Deposit 20 %."
    assert all(borne_out(text, fields, record, f"/{name}").found for name in record)


def test_a_term_counts_only_for_what_ends_unless_words_say_before_or_after() -> None:
    fields, record = {"dated": DAY, "delivered": DAY}, {"dated": "2026-03-03", "delivered": "2026-03-17"}
    ordered = "Ordered 1 March 2026, invoice of 3 March 2026"
    assert not borne_out(f"{ordered}, payable in 14 days", fields, record, "/delivered").found
    assert borne_out(f"{ordered}, it comes 14 days after that", fields, record, "/delivered").found


def test_a_row_is_set_against_its_own_days() -> None:
    fields = {"rows": [{"sown": DAY, "due": DAY}]}
    record = {"rows": [{"sown": "2026-02-01", "due": "2026-02-15"}, {"sown": "2026-05-01", "due": "2026-02-15"}]}
    text = "Sown 1 February 2026\nSown 1 May 2026\nDue within 14 days"
    assert borne_out(text, fields, record, "/rows/0/due").found
    assert not borne_out(text, fields, record, "/rows/1/due").found


def test_a_number_that_is_soon_come_to_by_chance_is_not_borne_out() -> None:
    fields, record = {"one": WHOLE, "two": WHOLE, "three": WHOLE}, {"one": 12, "two": 5, "three": 7}
    assert not borne_out("12 spades and 5 rakes", fields, record, "/three").found


def test_the_terms_of_a_long_paper_are_few() -> None:
    """Counted, not timed: however many lengths a paper names, as many are tried."""
    paper = Index(read("\n".join(f"Bed {n} within {n} days" for n in range(1, 300)).encode()))
    assert len(terms_of(paper)) <= 24
