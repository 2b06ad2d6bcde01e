"""Numbers that count or measure the rows of a list: how many, how many of them are amounts to pay, their sum, the least, the number of each."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from decimal import Decimal
from itertools import permutations
from typing import Any

from metrikon.core.extraction.grounding.numbers_of import Sought, number
from metrikon.core.records.meaning import akin
from metrikon.core.records.pointers import get
from metrikon.core.records.types import Field
from metrikon.core.values.number_words import plain

EXACT, CENT = Decimal("0.004"), Decimal("0.0051")
LEAST_NUMBERED = 3  # rows that are numbered one after the other


def counted(sought: Sought, value: Decimal) -> Iterator[str]:
    """A count of rows, also of those alone that cost something, or a sum over them."""
    for name, rows in _lists(sought.record, ""):
        if rows and value == len(rows):
            yield f"the number of {name}"
        for key, figures in _columns(rows):
            yield from _of_a_column(f"{name} {key}", figures, len(figures) == len(rows) or akin(key, sought.field.worded), value)


def _of_a_column(name: str, figures: list[Decimal], whole: bool, value: Decimal) -> Iterator[str]:
    """The sum of a column, where it is whole or bears the field's name; how many of its figures are above nought."""
    if len(figures) > 1 and whole and abs(sum(figures) - value) <= EXACT:
        yield f"the sum of {name}"
    owed = sum(1 for each in figures if each > 0)
    if owed and value == owed < len(figures):
        yield f"the number of {name} above 0"


def of_two_columns(sought: Sought, value: Decimal) -> Iterator[str]:
    """The sum over rows of what one column is more than another, or of both multiplied."""
    for name, rows in _lists(sought.record, ""):
        columns = [(key, figures) for key, figures in _columns(rows) if len(figures) == len(rows)]
        for (key, ones), (other, twos) in permutations(columns, 2):
            if abs(sum(a - b for a, b in zip(ones, twos, strict=True)) - value) <= EXACT:
                yield f"the sum of {name} {key} less {other}"
            if key < other and abs(sum(a * b for a, b in zip(ones, twos, strict=True)) - value) <= CENT:
                yield f"the sum of {name} {key} times {other}"


def extreme(sought: Sought, value: Decimal) -> Iterator[str]:
    """The least or greatest of the numbers of rows, nought left out, where the field asks for one."""
    for name, rows in _lists(sought.record, "") if asks_extreme(sought.field) else ():
        for key, figures in _columns(rows):
            some = [each for each in figures if each > 0]
            if len(some) > 1 and value in (min(some), max(some)):
                yield f"the {'least' if value == min(some) else 'greatest'} of {name} {key}"


_EXTREME = re.compile(
    r"cheap|least|lowest|smallest|highest|greatest|largest|biggest|dearest|expensive|\bmin|\bmax|billig|gunstig|guenstig|teuer|niedrig|hochst|hoechst|kleinst|grosst"
    r"|moins|plus|menor|mayor|maior|barat|caro|economic|basso|alto|goedkoop|duur|laag|hoog|lagst|hogst|dyrast|lavest|hojest|najta|najdro|najniz|najwyz|nejlev|nejdra|nejniz|nejvys"
)


def asks_extreme(field: Field) -> bool:
    """Whether a field asks for the least or the greatest of something."""
    return bool(_EXTREME.search(plain(f"{field.worded} {field.schema.get('description') or ''}")))


def numbered(sought: Sought, value: Decimal) -> Iterator[str]:
    """The number of a row, as it is in every row of the list."""
    head, _, inner = sought.pointer.rpartition("/")
    above, _, at = head.rpartition("/")
    rows = get(sought.record, above) if at.isdecimal() else None
    if not isinstance(rows, list) or len(rows) < LEAST_NUMBERED or value != int(at) + 1:
        return
    if all(isinstance(row, Mapping) and row.get(inner) == place + 1 for place, row in enumerate(rows)):
        yield "the number of its row"


def _lists(part: Any, above: str) -> Iterator[tuple[str, list[Any]]]:
    """The lists of a record and of the objects in it, by name."""
    for name, value in part.items() if isinstance(part, Mapping) else ():
        if isinstance(value, list):
            yield f"{above}{name}", value
        elif isinstance(value, Mapping):
            yield from _lists(value, f"{above}{name} ")


def _columns(rows: list[Any]) -> Iterator[tuple[str, list[Decimal]]]:
    """The numbers of rows by the name of their field."""
    objects = [row for row in rows if isinstance(row, Mapping)]
    for key in sorted({key for row in objects for key in row}):
        figures = [figure for row in objects if (figure := number(row.get(key))) is not None]
        if figures:
            yield key, figures
