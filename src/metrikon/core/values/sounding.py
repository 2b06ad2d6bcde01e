"""How words sound, about: a key in which letters that are heard alike are the same, for names that were heard and written down.

Vowels count only at the beginning, voiced and voiceless consonants are one, doubled ones count once. Made for European languages.
"""

from __future__ import annotations

import re
from functools import lru_cache

from metrikon.core.values.number_words import plain

_TOGETHER = (
    ("sch", "s"),
    ("sh", "s"),
    ("ch", "k"),
    ("ck", "k"),
    ("ph", "f"),
    ("gh", "k"),
    ("qu", "kf"),
    ("th", "t"),
    ("dt", "t"),
    ("tz", "s"),
    ("ts", "s"),
    ("cz", "s"),
    ("x", "ks"),
    ("ll", "l"),
    ("gn", "n"),
)
_SOUNDS = str.maketrans(
    {
        **dict.fromkeys("bp", "p"),
        **dict.fromkeys("vwf", "f"),
        **dict.fromkeys("dt", "t"),
        **dict.fromkeys("kgqc", "k"),
        **dict.fromkeys("szß", "s"),
        **dict.fromkeys("mn", "n"),
        **dict.fromkeys("hjy", ""),
    }
)
_SOFT = re.compile(r"c(?=[eiy])")
_VOWELS = re.compile(r"[aeiouyæœ]")


@lru_cache(maxsize=16384)
def sound(text: str) -> str:
    """The key of some words: "Fernhill" and "Furnhill" have the same."""
    letters = re.sub(r"[^a-zßæœ]", "", plain(text))
    letters = _SOFT.sub("s", letters)
    for written, heard in _TOGETHER:
        letters = letters.replace(written, heard)
    first = "a" if letters[:1] and _VOWELS.match(letters[:1]) else ""
    key = first + _VOWELS.sub("", letters.translate(_SOUNDS))
    return re.sub(r"(.)\1+", r"\1", key)
