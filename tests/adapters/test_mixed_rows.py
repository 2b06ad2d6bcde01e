"""Rows that a model mixed up stop the record and stay as they were given; rows that belong go through."""

from __future__ import annotations

from typing import Any

import pytest

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.records.adding import shown_product
from metrikon.core.records.types import record_type
from metrikon.core.values.numbers import currency_in
from metrikon.readers.registry import read
from tests.adapters.test_amended import NUMBER, TEXT, rows_of, through

RESUME = b"""Edda Fernsby

Work
Head gardener, Moss Lane Garden, 05/2019 to 06/2023
Gardener, Hollow Park, 02/2014 to 04/2019
Trainee, Tarn Nursery, 09/2011 to 01/2014

Education
Diploma in horticulture, Askrigg Land College, 2011

Languages
English, Dutch
"""
MONTH = {"type": ["string", "null"], "pattern": r"^\d{4}(-\d{2})?$"}
JOBS = rows_of(
    post={**TEXT, "description": "Position"},
    at={**TEXT, "description": "Employer"},
    begun={**MONTH, "description": "From month"},
    ended={**MONTH, "description": "To month"},
)
RIGHT = [
    {"post": "Head gardener", "at": "Moss Lane Garden", "begun": "2019-05", "ended": "2023-06"},
    {"post": "Gardener", "at": "Hollow Park", "begun": "2014-02", "ended": "2019-04"},
    {"post": "Trainee", "at": "Tarn Nursery", "begun": "2011-09", "ended": "2014-01"},
]


def jobs(given: list[dict[str, Any]]) -> tuple[list[dict[str, Any]], set[str]]:
    found = through({"jobs": {**JOBS, "description": "Jobs, newest first"}}, RESUME, {"jobs": given}).reading
    return found.record["jobs"], {each.check for each in found.findings if each.level == "stop"}


def test_rows_that_belong_stay_as_they_are() -> None:
    assert jobs(RIGHT) == (RIGHT, set())


def test_posts_that_were_mixed_up_with_schools_stop_the_record() -> None:
    mixed = [{**RIGHT[0], "at": "Hollow Park"}, {**RIGHT[1], "at": "Askrigg Land College"}, {**RIGHT[2], "at": "Moss Lane Garden"}]
    rows, checks = jobs(mixed)
    assert rows[0] == mixed[0]
    assert checks & {"of another row", "same words", "unsupported"}


def test_a_post_less_is_no_reason_to_take_other_rows() -> None:
    assert jobs(RIGHT[:2])[0] == RIGHT[:2]


HIRE = b"""Moss Lane Hire

Item            Pieces   Weeks   Rate     Charge
Ladder          2        3       4.50     27.00
Barrow          4        2       6.25     50.00
Trestle         3        5       2.10     31.50
Spade           2        2       1.50     6.00
Rake            3        2       1.50     9.00
Hoe             2        4       1.25     10.00
Fork            5        2       1.10     11.00
Dibber          4        3       0.75     9.00
Sieve           2        6       0.50     6.00

Total                                     159.50
"""


def test_three_factors_make_a_product_and_such_rows_need_no_model() -> None:
    lines = rows_of(
        item={**TEXT, "description": "Description"},
        pieces={**NUMBER, "description": "Quantity"},
        weeks={**NUMBER, "description": "Weeks"},
        rate={**NUMBER, "description": "Rate per piece and week"},
        charge={**NUMBER, "description": "Charge of the line"},
    )
    found = through({"lines": lines, "total": {**NUMBER, "description": "Total"}}, HIRE, {"lines": [], "total": 159.5}).reading
    assert [float(row["charge"]) for row in found.record["lines"]][:4] == [27, 50, 31.5, 6]
    kind = record_type({"type": "object", "properties": {"lines": lines}})
    amounts = [each for each in kind.lists["/lines"] if each.kind == "amount"]
    shown = shown_product(found.record["lines"], amounts)
    assert shown is not None
    assert [each.name for each in shown[0].parts] == ["pieces", "weeks", "rate", "charge"]


@pytest.mark.parametrize(("text", "code"), [("CAD-Konstruktion", None), ("CAD 12.00", "CAD"), ("12 EUR", "EUR"), ("EUR-12", "EUR")])
def test_a_word_that_begins_like_a_code_names_no_currency(text: str, code: str | None) -> None:
    assert currency_in(text) == code


def test_an_end_in_words_ends_nothing() -> None:
    still = rows_of(post={**TEXT, "description": "Position"}, until={**MONTH, "description": "To month"}, still_there={"type": "boolean"})
    resume = RESUME.replace(b"to 06/2023", b"to present")
    given = [{"post": "Head gardener", "until": "present", "still_there": True}, {"post": "Gardener", "until": "2019-04", "still_there": True}]
    rows = through({"jobs": still}, resume, {"jobs": given}).reading.record["jobs"]
    assert [row["still_there"] for row in rows] == [True, False]


@pytest.mark.parametrize(("text", "country"), [("Call 085 000 4172", "GB"), ("Call 505 555 0186", "US")])
def test_a_number_that_begins_with_nought_is_no_american_one(text: str, country: str) -> None:
    assert Index(read(f"Moss Lane Garden is open and the ferns are in the shade of the house.\n{text}\n".encode())).phone_country == country
