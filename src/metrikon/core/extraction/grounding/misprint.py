"""Texts whose print is not what is meant: accents that a picture lost, addresses that a page disguises from programs."""

from __future__ import annotations

import re
import unicodedata
from typing import Any

from metrikon.core.extraction.indexing.index import Index, Place, squeezed
from metrikon.core.extraction.indexing.placed import evidence_at
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.types import Field

SURE, SHORTEST = 0.65, 4
LONGEST = 80  # letters of a name; each odd one makes more forms to look for
_LOOKS = {
    "æ": ("ae", "e", "a"),
    "ø": ("o", "0"),
    "å": ("a",),
    "ß": ("ss", "b", "s"),
    "œ": ("oe", "o"),
    "ł": ("l",),
    "đ": ("d",),
    "ð": ("d",),
    "þ": ("p",),
}


def without_accents(field: Field, value: Any, index: Index) -> Evidence | None:
    """A text with letters that are not English, which stands where such letters were read as others, or not at all."""
    if not isinstance(value, str) or value.isascii() or len(squeezed(value)) < SHORTEST:
        return None
    if len(value) > LONGEST:
        return None
    for page, text, source in index.once("pictured letters", _pictured):
        for form in _forms(value):
            at = text.find(form)
            if at >= 0 and len(form) >= SHORTEST:
                return evidence_at(index, Place(page, (source[at],)), SURE, "mapped")
    return None


def _pictured(index: Index) -> list[tuple[int, str, list[int]]]:
    """(page, its letters run together, the word of each letter) of the pages that were read from pictures."""
    found = []
    for page in index.document.pages:
        if page.source == "ocr":
            words = [_bare(word.text) for word in page.words]
            found.append((page.number, "".join(words), [number for number, word in enumerate(words) for _ in word]))
    return found


def _bare(text: str) -> str:
    return "".join(c for c in unicodedata.normalize("NFKD", text.lower()) if c.isalnum())


def _forms(value: str) -> list[str]:
    """What a value may have been read as: each odd letter as what it looks like, or left out."""
    forms = [""]
    for c in "".join(_bare(word) for word in value.split()):
        options = (c, *_LOOKS.get(c, ()), "") if not c.isascii() else (c,)
        forms = [form + option for form in forms for option in options][:64]
    return forms


_INSERTED = re.compile(r"[A-Z]{4,12}")


def disguised(field: Field, value: Any, index: Index) -> Evidence | None:
    """A mail address that is printed from right to left, or with a word in capitals put in, so that programs do not find it."""
    if field.kind != "mail" or not isinstance(value, str) or "@" not in value:
        return None
    place = index.once("disguised addresses", _disguised).get(value.lower())
    return evidence_at(index, place, 0.7, "mapped") if place else None


def _disguised(index: Index) -> dict[str, Place]:
    """Every word with "@" in it read from right to left, and without what is put in."""
    found: dict[str, Place] = {}
    for page in index.document.pages:
        for number, word in enumerate(page.words):
            text = word.text.strip("()<>,;")
            if "@" in text:
                place = Place(page.number, (number,))
                found.setdefault(text[::-1].lower(), place)
                found.setdefault(_INSERTED.sub("", text).lower(), place)
    return found
