"""Nought that is said in a word: an entry that is free, a service without charge, of which none is left."""

from __future__ import annotations

import re
from decimal import Decimal
from typing import Any

from metrikon.core.extraction.indexing.index import Index, Place
from metrikon.core.extraction.indexing.placed import evidence_at
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.types import Field
from metrikon.core.values.number_words import plain

SURE = 0.7
_FREE = re.compile(
    r"\b(?:free|no charge|complimentary|gratis|gratuit\w*|offert\w*|kostenlos|kostenfrei|unentgeltlich|frei|umsonst|libre|sin coste|sin cargo|liber[oa]|omaggio"
    r"|senza costi|bezplatn\w*|darmow\w*|za darmo|zdarma|bezplatne|ilmai\w*|kostnadsfri\w*|vederlagsfri\w*|ingyenes|zadarmo|nil|none|keine?r?|aucune?|ningun\w*|nessun\w*"
    r"|geen|nenhum\w*|ingen|inga|brak|zadn\w*|sold out|full|complet[oa]?|ausgebucht|volgeboekt|esgotado|udsolgt|slutsald\w*|obsazeno)\b"
)


def for_nothing(field: Field, value: Any, index: Index) -> Evidence | None:
    """A nought of which the document has a word."""
    if field.kind != "amount" or not isinstance(value, Decimal | int) or isinstance(value, bool) or value != 0:
        return None
    place = index.once("words for nought", _first)
    return evidence_at(index, place, SURE, "mapped") if place else None


def _first(index: Index) -> Place | None:
    for page in index.document.pages:
        for line in page.lines:
            if _FREE.search(plain(line.text)):
                return Place(page.number, tuple(range(line.first, line.last)))
    return None
