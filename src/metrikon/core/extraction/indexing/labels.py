"""Labels of fields in the form in which they are compared."""

from __future__ import annotations

from functools import lru_cache

from metrikon.core.values.text import fold

_NUMBER_SIGNS = {"#": "no", "n°": "no", "nº": "no", "no": "no", "nr": "no", "num": "no", "n": "n"}


@lru_cache(maxsize=8192)
def label_words(text: str) -> tuple[str, ...]:
    """The words of a label in the form in which they are compared."""
    spaced = text.replace("#", " # ").replace("n°", " n° ").replace("N°", " n° ")
    words = []
    for part in spaced.split():
        raw = part.casefold().strip(".:")
        word = _NUMBER_SIGNS.get(raw) or fold(part)
        words += [piece for piece in word.replace("-", " ").replace("'", " ").replace("’", " ").split() if piece]
    return tuple(_NUMBER_SIGNS.get(word, word) for word in words)
