"""A value that was typed a little wrong takes the document's own words, only where one piece of print can be meant."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

import pytest

from metrikon.core.extraction.grounding.retyped import as_printed_near, month_printed
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.records.types import record_type
from metrikon.readers.registry import read

TEXT = """Fernhill Nurseries, Moss Lane
Order HP-20417 of 13 March 2026
Aster novi-belgii 'Blaue Nachhut', in pots
Total 2,310.40
Open from the 1st April to 30 September
"""
KIND = record_type(
    {
        "type": "object",
        "properties": {
            "plant": {"type": "string"},
            "total": {"type": "number"},
            "ordered": {"type": "string", "format": "date"},
            "opens": {"type": "string"},
        },
    }
)


@pytest.fixture(scope="module")
def index() -> Index:
    return Index(read(TEXT.encode()))


@pytest.mark.parametrize(
    ("name", "value", "printed"),
    [
        ("plant", "Aster novi-belgi 'Blaue Nachhut'", "Aster novi-belgii 'Blaue Nachhut'"),
        ("total", Decimal("23.1040"), Decimal("2310.40")),
        ("ordered", "2025-03-13", "2026-03-13"),
        ("ordered", "2026-03-31", None),
        ("plant", "Salvia nemorosa 'Caradonna'", None),
        ("opens", "1 April", None),  # "April" alone would lose the day
    ],
)
def test_print_takes_the_place_of_what_comes_near_it(name: str, value: Any, printed: Any, index: Index) -> None:
    field = next(each for each in KIND.header if each.name == name)
    assert as_printed_near(field, value, index) == printed


MONTHS = """Edda Fernsby
Head gardener, Moss Lane Garden, Jul 2019 - Mar 2021
Groundsman, Lower Marl, 2013 - 2016
Tree warden, Thornby Dale, Sep 2016 - Oct 2018
"""


@pytest.mark.parametrize(
    ("value", "found", "wanted"),
    [
        ("2019", True, "2019-07"),
        ("2016", True, None),
        ("2013-02", False, "2013"),
        ("2013", True, None),
        ("2019-07", True, None),
        ("2009-07", False, None),
    ],
)
def test_a_year_has_its_month_where_one_is_printed_beside_it(value: str, found: bool, wanted: str | None) -> None:
    kind = record_type({"type": "object", "properties": {"from_month": {"type": "string", "pattern": "^[0-9]{4}(-[0-9]{2})?$"}}})
    assert month_printed(kind.header[0], value, found, Index(read(MONTHS.encode()))) == wanted


def test_of_prints_that_are_the_same_but_for_their_case_the_first_is_taken_in_every_process() -> None:
    text = "Kiln wash and more kiln wash in pots\nKILN WASH again"
    field = record_type({"type": "object", "properties": {"what": {"type": "string"}}}).header[0]
    assert as_printed_near(field, "kiln wush", Index(read(text.encode()))) == "Kiln wash"
