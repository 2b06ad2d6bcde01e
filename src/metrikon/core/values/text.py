"""Text as it should be kept, and text as it should be compared."""

from __future__ import annotations

import re
import unicodedata
from functools import lru_cache

_SPACES = re.compile(r"[\s\u00a0\u2000-\u200a\u202f\u205f\u3000]+")
_DROPPED = {"Cc", "Cf", "Cs", "Co", "Cn"}
_LOOKALIKES = str.maketrans({"\u2010": "-", "\u2011": "-", "\u2012": "-", "\u2212": "-", "\ufb01": "fi", "\ufb02": "fl"})
_EDGE = " \t:;,.#()[]*"


def clean(text: str) -> str:
    """Drop control and invisible characters, make all space single, compose accents (Unicode NFC)."""
    if text.isascii() and text.isprintable() and "  " not in text:
        return text.strip()
    composed = unicodedata.normalize("NFC", text.translate(_LOOKALIKES))
    kept = "".join(c if c.isprintable() or c.isspace() else _instead(c) for c in composed)
    return _SPACES.sub(" ", kept).strip()


def _instead(character: str) -> str:
    return "" if unicodedata.category(character) in _DROPPED else " "


def xml_text(text: str) -> str:
    """Text without the characters that XML 1.0 does not allow (section 2.2)."""
    return "".join(c for c in text if c in "\t\n\r" or (c >= " " and not "\ud800" <= c <= "\udfff" and c not in "\ufffe\uffff"))


@lru_cache(maxsize=8192)
def fold(text: str) -> str:
    """The form in which texts are compared: no case, no accents, no punctuation at the edges."""
    if text.isascii():
        return text.casefold().strip(_EDGE)
    decomposed = unicodedata.normalize("NFKD", text.casefold())
    return "".join(c for c in decomposed if not unicodedata.combining(c)).strip(_EDGE)


@lru_cache(maxsize=8192)
def name_key(name: str) -> str:
    """The form in which names of fields are compared: letters and digits only, no case."""
    return "".join(c for c in name.casefold() if c.isalnum())


@lru_cache(maxsize=8192)
def folded_words(text: str) -> tuple[str, ...]:
    """The folded words of a text, empty ones left out."""
    return tuple(word for word in (fold(part) for part in _SPACES.split(text)) if word)
