"""What a decided value rests on: the passage of a document that speaks of what its field asks, by the words of name, description and option.

Words are compared by their stems, so that "reserve" is found in "reserving"; the commonest words of a language say nothing.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from metrikon.core.extraction.indexing.index import Index, Place
from metrikon.core.records.types import Field
from metrikon.core.values.number_words import plain

STEM = 5  # letters by which two words are taken for forms of one
LEAST = 4  # letters of a word that says something
_COMMON = """
the and for with from that this have has was were will would whether true false if not null yes no any are been being did does else only
said says state stated given about which what who when where there their they them you your our his her its into onto over under also than
then such each other one two date number name value field text person caller customer document whose must should could can may might asked
document's wenn falls wird wurde sind haben hat nicht oder und der die das den dem des ein eine einen einer ist war auch nur noch sich mit
fur von ob als auf wer wie wann wahr falsch si le la les du de une un est sont pour avec dans que qui quoi pas non oui ou et sur par ce
cette ces son sa ses vrai faux el los las una para con por del esta este sus segun como cuando verdadero falso il lo gli della delle dei che
per het een van voor met niet wel of dat wordt werd zijn heeft waar onwaar det som till med inte eller att har ved ikke og er
"""
_EMPTY = frozenset(map(plain, _COMMON.split()))
_NEGATIVE = frozenset(["no", "not", "none", "never", "without", "nein", "nicht", "kein", "keine", "keinen", "keiner", "ohne", "non", "ne", "pas", "sans", "aucun", "aucune", "jamais", "no", "sin", "ningun", "ninguna", "ni", "nunca", "senza", "nessun", "nessuna", "mai", "geen", "niet", "nee", "zonder", "nooit", "nao", "sem", "nem", "ingen", "inte", "ikke", "ej", "uden", "utan", "nie", "bez", "brak", "nobody", "nothing", "niemand", "nichts", "personne", "rien", "nadie", "nada", "nessuno", "niente", "niets", "ninguem", "nikt", "free", "kostenlos", "gratis", "frei", "gratuit", "gratuite", "offert", "gratuito", "libre"])  # fmt: skip
_SPLIT = re.compile(r"[^\W\d_]+")


@dataclass(frozen=True)
class Rest:
    """Where a passage stands that speaks of a field, how surely it does, and whether it denies."""

    place: Place
    sure: float
    denied: bool


@lru_cache(maxsize=4096)
def stems(text: str) -> frozenset[str]:
    """The stems of the words of a text that say something."""
    found = set()
    for word in _SPLIT.findall(re.sub(r"(?<=[a-z])(?=[A-Z])", " ", text.replace("_", " "))):
        short = plain(word)
        if len(short) >= LEAST and short not in _EMPTY:
            found.add(short[:STEM])
        elif word.isupper() and 2 <= len(short) <= 3:
            found.add(short)
    return frozenset(found)


def rests_on(field: Field, value: Any, index: Index) -> Rest | None:
    """The passage that best speaks of what a field asks; None when none does."""
    name, about = stems(f"{field.name} {field.title}"), stems(str(field.schema.get("description") or ""))
    option = stems(_said_option(field, value)) if isinstance(value, str) else frozenset()
    if not name | about | option:
        return None
    passages, frequency = index.once("passages", _passages)
    best: tuple[float, Rest] | None = None
    for number, (place, words, denied) in enumerate(passages):
        score = sum(
            weight / frequency.get(stem, 1) ** 0.5 for stems_here, weight in ((name, 1.0), (about, 0.7), (option, 1.2)) for stem in stems_here & words
        )
        if score > 0 and (best is None or score > best[0]):
            following = passages[number + 1][2] if number + 1 < len(passages) else False
            best = (score, Rest(place, 0.8 if score >= 0.5 else 0.7, denied or following))
    return best[1] if best else None


def _said_option(field: Field, value: str) -> str:
    means: Mapping[str, Any] = field.ours.get("means") or {}
    return " ".join([value, *map(str, means.get(value) or ())])


def _passages(index: Index) -> tuple[list[tuple[Place, frozenset[str], bool]], dict[str, int]]:
    """Sentences of a transcript, else lines, each with its stems and whether it denies something; and how many hold each stem."""
    found = []
    frequency: dict[str, int] = {}
    for place, text in _texts(index):
        words = _stems_within(text)
        for stem in words:
            frequency[stem] = frequency.get(stem, 0) + 1
        found.append((place, words, any(plain(word) in _NEGATIVE for word in _SPLIT.findall(text))))
    return found, frequency


def _texts(index: Index) -> Iterable[tuple[Place, str]]:
    if index.document.sentences:
        for sentence in index.document.sentences:
            if sentence.page and sentence.words:
                yield Place(sentence.page, sentence.words), sentence.text
        return
    for page in index.document.pages:
        for line in page.lines:
            yield Place(page.number, tuple(range(line.first, line.last))), line.text


def _stems_within(text: str) -> frozenset[str]:
    """The stems of a text and those of the parts of its long words: "Rückrufwunsch" speaks of "wunsch"."""
    found = set(stems(text))
    for word in _SPLIT.findall(text):
        short = plain(word)
        found.update(short[at : at + STEM] for at in range(1, len(short) - STEM + 1) if len(short) >= 9)
    return frozenset(found)
