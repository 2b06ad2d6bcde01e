"""A price in a row that is printed without cents, where those of all other rows are printed with them: it is another number of its row."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from metrikon.core.extraction.doubting.claims import Claims
from metrikon.core.records.findings import Finding
from metrikon.core.records.meaning import a_share, concept_of
from metrikon.core.records.types import Field

_SIGN = re.compile(r"[€$£]")  # what has it is a price
_CENTS = re.compile(r"[.,]\d{2,4}(?!\d)")
LEAST = 2  # rows that are printed


def bare_prices(claims: Claims) -> Iterator[Finding]:
    """The one price of a column that has no cents, in lists of the record."""
    for pointer, fields in claims.kind.lists.items():
        given = claims.record.get(pointer[1:]) if pointer.count("/") == 1 else None
        rows: list[Any] = given if isinstance(given, list) else []
        for each in fields if rows else ():
            if each.kind == "amount" and not a_share(each) and concept_of(each) in ("unit price", "line amount"):
                yield from _of_column(claims, pointer, each, rows)


def _of_column(claims: Claims, pointer: str, field: Field, rows: list[Any]) -> Iterator[Finding]:
    at = (f"{pointer}/{number}/{field.name}" for number in range(len(rows)))
    quotes = {each: claims.evidence[each].quote for each in at if claims.how(each) == "printed"}
    bare = [each for each, quote in quotes.items() if not _CENTS.search(quote)]
    if len(bare) != 1 or len(quotes) < LEAST or _SIGN.search(quotes[bare[0]]):
        return
    spots = claims.places(field, claims.number(bare[0]))
    if spots and not any(_CENTS.search(claims.index.quote(spot)) for spot in spots):
        message = f"{claims.kind.titled(bare[0])} is printed as {quotes[bare[0]]}, without cents, as it is in no other row."
        yield Finding("of another column", "stop", message, (bare[0],))
