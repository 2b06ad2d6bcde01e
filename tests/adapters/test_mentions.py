"""Every typed value of a page is found with the words by it, and a field takes the one that its words mean."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

import pytest

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.records.types import Field, record_type
from metrikon.models.pattern.generic import options
from metrikon.models.pattern.mentions import mentions
from metrikon.readers.registry import read
from tests.helpers import typed_document

LETTER = """Quillfeather Ferns Ltd
Moss Lane 12, Thornby TD4 1PX, UK
Telephone   01632 960143        Mail   office@quillfeather.example
www.quillfeather.example        VAT reg  GB 123 4567 82

Invoice no   QF-2207            Date     12 March 2026
                                Pay by   11 April 2026
Collection between 09:30 and 16:00

Goods total                     £ 56.00
VAT 20%                         £ 11.20
To pay                          £ 67.20
IBAN  GB33 BUKB 2020 1555 5555 55
"""
TEXT: dict[str, Any] = {"type": "string"}
DAY, NUMBER = {**TEXT, "format": "date"}, {"type": "number"}


@pytest.fixture(scope="module")
def index() -> Index:
    return Index(typed_document(LETTER))


def field(schema: dict[str, Any], about: str, name: str = "wanted") -> Field:
    return record_type({"type": "object", "properties": {name: {**schema, "description": about}}}).header[0]


@pytest.mark.parametrize(
    ("kind", "value"),
    [
        ("date", "2026-03-12"),
        ("date", "2026-04-11"),
        ("amount", Decimal("56.00")),
        ("amount", Decimal("67.20")),
        ("phone", "01632 960143"),
        ("mail", "office@quillfeather.example"),
    ],
)
def test_a_typed_value_is_found_where_it_stands(kind: str, value: Any, index: Index) -> None:
    found = [each for each in mentions(index) if each.kind == kind and each.value == value]
    assert found
    assert all(each.place.words and each.place.page == 1 for each in found)


def test_the_words_before_a_value_count_more_than_those_above(index: Index) -> None:
    (due,) = [each for each in mentions(index) if each.value == "2026-04-11"]
    weights = {text.lower(): weight for text, weight in due.labels}
    assert weights["pay by"] == max(weights.values())


@pytest.mark.parametrize(
    ("schema", "about", "wanted"),
    [
        (DAY, "Date of the invoice", "2026-03-12"),
        (DAY, "Last day for payment", "2026-04-11"),
        (NUMBER, "Total before tax", Decimal("56.00")),
        (NUMBER, "VAT amount", Decimal("11.20")),
        (NUMBER, "Amount due with VAT", Decimal("67.20")),
        ({**TEXT, "pattern": r"^\+[1-9]\d{6,14}$"}, "Telephone", "+441632960143"),
        ({**TEXT, "format": "email"}, "Mail address", "office@quillfeather.example"),
        (TEXT, "Invoice number", "QF-2207"),
    ],
)
def test_a_field_takes_the_value_whose_words_mean_it(schema: dict[str, Any], about: str, wanted: Any, index: Index) -> None:
    best = options(field(schema, about), index, set())[0]
    assert best.value == wanted
    assert 0 < best.score <= 1


def test_options_come_likeliest_first_and_each_value_once(index: Index) -> None:
    found = options(field(NUMBER, "Amount due with VAT"), index, set())
    assert [each.score for each in found] == sorted((each.score for each in found), reverse=True)
    assert len({each.value for each in found}) == len(found)


def test_numbers_of_a_table_are_left_to_its_rows(index: Index) -> None:
    of_vat = next(each for each in mentions(index) if each.value == Decimal("11.20"))
    used = {(of_vat.place.page, word) for word in of_vat.place.words}
    assert Decimal("11.20") not in {each.value for each in options(field(NUMBER, "VAT amount"), index, used)}


def test_an_empty_page_and_one_without_values_have_none() -> None:
    for text in (b"", b"Nothing of the kind stands here.\n"):
        try:
            document = read(text)
        except Exception as refused:  # an empty file is refused by its reader
            assert "empty" in str(refused)
            continue
        assert mentions(Index(document)) == []
