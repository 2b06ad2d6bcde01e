"""Numbers outside of rows that stand only where a row has its own."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal
from typing import Any

from metrikon.core.documents.model import Box, words_box
from metrikon.core.extraction.doubting.claims import Claims
from metrikon.core.extraction.grounding.counted import asks_extreme
from metrikon.core.extraction.indexing.index import Place
from metrikon.core.records.findings import Finding
from metrikon.core.records.meaning import a_sum
from metrikon.core.records.pointers import get, shape
from metrikon.core.records.types import Field
from metrikon.core.values.number_words import plain


def taken_by_rows(claims: Claims) -> Iterator[Finding]:
    """Numbers of the record whose only place is that of a row; the cheapest of some is one of theirs, and so is what a list begins with."""
    for (page, box), pointers in claims.by_box.items():
        rows = [pointer for pointer in pointers if "/*/" in shape(pointer)]
        for pointer in pointers if rows else ():
            field, value = claims.kind.by_shape.get(pointer), claims.number(pointer)
            if field is None or value is None or "number" not in field.types or asks_extreme(field):
                continue
            meant = _meant_twice(field, value, rows, claims.record) or _sum_of_one(claims, field, value, rows, (page, box))
            if not meant and not _free(claims, field, value):
                message = f"{claims.kind.titled(pointer)} {value!s} stands only where {claims.kind.titled(rows[0])} stands (page {page})."
                yield Finding("of a row", "stop", message, (pointer,))


def _free(claims: Claims, field: Field, value: Decimal) -> bool:
    """Whether a number has a place that no other value claims."""
    spots = claims.places(field, value)
    return any((spot.page, words_box(claims.index.pages[spot.page], spot.words)) not in claims.by_box for spot in spots)


def _meant_twice(field: Field, value: Decimal, rows: Sequence[str], record: Mapping[str, Any]) -> bool:
    """Whether the record may repeat a number of its rows: what is taken off there, told without its sign; what a list begins or ends with."""
    return get(record, rows[0]) == -value or (_at_an_end(rows, record) and _asks_for_an_end(field))


def _sum_of_one(claims: Claims, field: Field, value: Decimal, rows: Sequence[str], spot: tuple[int, Box]) -> bool:
    """Whether a sum is the amount of the only row, where the document prints no larger figure that could be one: "12 on potting soil".

    `spot`: where it stands; a figure within that is a part of it, as the cents of "8 euros 90" are.
    """
    _, name, number, *_ = rows[0].split("/")
    held = get(claims.record, f"/{name}")
    if number != "0" or not isinstance(held, list) or len(held) != 1 or not a_sum(field):
        return False
    dated = {(place.page, word) for at in claims.index.dates.values() for place in at for word in place.words}
    larger = (place for figure, at in claims.index.numbers.items() if figure > value for place in at)
    return all(any((place.page, word) in dated for word in place.words) or _lies_in(claims, place, spot) for place in larger)


def _lies_in(claims: Claims, place: Place, spot: tuple[int, Box]) -> bool:
    """Whether a place is a part of a spot on a page."""
    page, (left, top, right, bottom) = spot
    if place.page != page:
        return False
    x0, y0, x1, y1 = words_box(claims.index.pages[page], place.words)
    return left <= x0 and top <= y0 and x1 <= right and y1 <= bottom


def _at_an_end(rows: Sequence[str], record: Mapping[str, Any]) -> bool:
    ends = ((name, number) for name, number, *_ in (at[1:].split("/") for at in rows))
    return any(number in ("0", str(len(get(record, f"/{name}") or ()) - 1)) for name, number in ends)


def _asks_for_an_end(field: Field) -> bool:
    return bool(_OPENS.search(plain(f"{field.worded} {field.schema.get('description') or ''}")))


_OPENS = re.compile(
    r"open|clos|begin|start|initial|final|\bend|carried|anfang|schluss|beginn|ende|vortrag|ouvert|cloture|debut|\bfin|saldo|inicia|apertura|cierre|inizi|chiusura|eind"
    r"|abertura|fecho|pocz|koniec|konc|pocat|startsald|slutsald|ingaende|utgaende"
)
