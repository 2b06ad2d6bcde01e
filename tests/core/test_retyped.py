"""A value that was typed a little wrong takes the document's own words, only where one piece of print can be meant."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

import pytest

from metrikon.core.extraction.index import Index
from metrikon.core.extraction.retyped import as_printed_near
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
