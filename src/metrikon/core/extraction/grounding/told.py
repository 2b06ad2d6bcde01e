"""Amounts that follow from the record's own and from a figure that the field's description names: a year's pay for 52 weeks, a price with 21 % tax."""

from __future__ import annotations

import re
from collections.abc import Iterator
from decimal import Decimal
from functools import lru_cache
from itertools import combinations

from metrikon.core.extraction.grounding.numbers_of import Sought, of_record
from metrikon.core.records.types import Field
from metrikon.core.values.languages import language_of
from metrikon.core.values.number_words import groups, tokens

CENT = Decimal("0.0051")  # what is multiplied is rounded to a cent
LEAST = 100  # a whole number below it is soon come to by chance
MOST_TOLD = 4  # figures of a description that are tried
_FACTOR = re.compile(r"(?<![\w.,-])(\d{1,3}(?:[.,]\d{1,2})?)\s?(%)?")


def numbers_told(field: Field, language: str | None = None) -> list[tuple[Decimal, bool]]:
    """The figures that a description names, and whether each is a share."""
    text = str(field.schema.get("description") or "")
    found = [(Decimal(match[1].replace(",", ".")), match[2] is not None) for match in _FACTOR.finditer(text)]
    found += [(Decimal(number), False) for number in _in_words(text, language)]
    return [each for each in dict.fromkeys(found) if each[0] > 1][:MOST_TOLD]


@lru_cache(maxsize=2048)
def _in_words(text: str, other: str | None) -> tuple[int, ...]:
    """The numbers that a description has in words, in its language: "twelve times the monthly salary"."""
    words = tokens(text)
    language = language_of([text]) or other
    return tuple(group.value for group in groups(words, language) if not words[group.first].isdecimal() and group.value > 1) if language else ()


def with_told(sought: Sought, value: Decimal) -> Iterator[str]:
    """What the record's own numbers come to with a figure of the description, told; nothing for fields that name none."""
    if value == int(value) and abs(value) < LEAST:
        return
    for figure, share in numbers_told(sought.field, sought.index.language):
        factor = 1 + figure / 100 if share else figure
        for each in of_record(sought):
            if abs(each.value * factor - value) <= CENT:
                yield f"{each.name} and {figure} %" if share else f"{each.name} times {figure}"
            elif abs(each.value / factor - value) <= CENT:
                yield f"{each.name} less {figure} %" if share else f"{each.name} divided by {figure}"


def with_two_told(sought: Sought, value: Decimal) -> Iterator[str]:
    """Two numbers of the record times a figure of the description: an hourly wage times the hours, for so many weeks."""
    figures = [figure for figure, share in numbers_told(sought.field, sought.index.language) if not share and (value != int(value) or value >= LEAST)]
    for figure in figures:
        for one, two in combinations(of_record(sought), 2):
            if abs(one.value * two.value * figure - value) <= CENT:
                yield f"{one.name} times {two.name} times {figure}"
