"""Nought that is said in a word: an entry that is free, a service without charge, of which none is left."""

from __future__ import annotations

import re
from decimal import Decimal
from typing import Any

from metrikon.core.extraction.indexing.index import Index, Place
from metrikon.core.extraction.indexing.placed import evidence_at
from metrikon.core.extraction.indexing.words import stems
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.types import Field
from metrikon.core.values.number_words import plain

SURE = 0.7
_FREE = re.compile(
    r"\b(?:free|no charge|complimentary|gratis|gratuit\w*|offert\w*|kostenlos|kostenfrei|unentgeltlich|frei|umsonst|libre|sin coste|sin cargo|liber[oa]|omaggio"
    r"|senza costi|bezplatn\w*|darmow\w*|za darmo|zdarma|bezplatne|ilmai\w*|kostnadsfri\w*|vederlagsfri\w*|ingyenes|zadarmo|nil|none|keine?r?|aucune?|ningun\w*|nessun\w*"
    r"|geen|nenhum\w*|ingen|inga|brak|zadn\w*|sold out|full|complet[oa]?|ausgebucht|volgeboekt|esgotado|udsolgt|slutsald\w*|obsazeno|full(?:bok|teckn)\w*|fully booked|voll belegt)\b"
)


_ASKS = re.compile(r"(?<!\d)0(?![\d.,])|zero|nought|null wenn|free|gratis|gratuit|kostenlos")


def for_nothing(field: Field, value: Any, index: Index) -> Evidence | None:
    """A nought of which the document has a word; outside of rows the only one, one by a line that speaks of the field, or any where the field says what 0 means."""
    if field.kind != "amount" or not isinstance(value, Decimal | int) or isinstance(value, bool) or value != 0:
        return None
    about = f"{field.shape.replace('/', ' ')} {field.worded} {field.schema.get('description') or ''}"
    in_row, told = "/*/" in field.shape, bool(_ASKS.search(plain(str(field.schema.get("description") or ""))))
    places = noughts(index)
    for place in places:
        if in_row or told or len(places) == 1 or stems(about) & stems(_around(place, index)):
            return evidence_at(index, place, SURE, "mapped")
    return None


def _around(place: Place, index: Index) -> str:
    """The text of a line and of those around it."""
    page = index.pages[place.page]
    at = page.line_of[place.words[0]]
    return " ".join(line.text for line in page.lines[max(0, at - AROUND) : at + AROUND + 1])


AROUND = 3  # lines around a word for nought on which it may be said of what


def noughts(index: Index) -> list[Place]:
    """The lines that have a word for nought."""
    return index.once("words for nought", _lines)


def _lines(index: Index) -> list[Place]:
    return [
        Place(page.number, tuple(range(line.first, line.last)))
        for page in index.document.pages
        for line in page.lines
        if _FREE.search(plain(line.text))
    ]
