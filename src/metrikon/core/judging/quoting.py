"""Where the words stand that a judgement is said to rest on."""

from __future__ import annotations

import math
import re

from metrikon.core.extraction.indexing.index import Index, squeezed
from metrikon.core.extraction.indexing.placed import evidence_at
from metrikon.core.records.evidence import MISSING, Evidence

EXACT, NEARLY = 0.95, 0.8  # how sure the place of words is that stand so, or but for a few
LEAST = 3  # letters of words that can be looked for
LEAST_WORDS, SHARE, ENOUGH = 3, 0.6, 5  # of a quotation that must stand in a row: so many and such a share of it, or enough
LONGEST, LETTERS = 40, 2000  # words of a quotation that are looked for; letters of what is quoted
_EDGES = "\"“”„‘’'«»….,;:!? "


def standing(words: str, index: Index) -> Evidence:
    """The evidence of words that were quoted: where they stand, or most of them in a row; `MISSING` when they do not."""
    pieces = [piece for each in re.split(r"\[?(?:\.\.\.|…)\]?|\n", words[:LETTERS]) if len(squeezed(piece := each.strip(_EDGES))) >= LEAST]
    found = [each for each in (_place(piece, index) for piece in pieces[:4]) if each.found]
    return max(found, key=lambda each: (each.sure, len(each.quote)), default=MISSING)


def _place(piece: str, index: Index) -> Evidence:
    places = index.find_text(piece)
    if places:
        return evidence_at(index, places[0], EXACT, "decided")
    tokens = piece.split()[:LONGEST]
    least = max(LEAST_WORDS, min(ENOUGH, math.ceil(SHARE * len(tokens))))
    for length in range(len(tokens) - 1, least - 1, -1):
        for start in range(len(tokens) - length + 1):
            part = " ".join(tokens[start : start + length]).strip(_EDGES)
            if len(squeezed(part)) >= LEAST and (places := index.find_text(part)):
                return evidence_at(index, places[0], NEARLY, "decided")
    return MISSING
