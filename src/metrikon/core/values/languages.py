"""Which language a text is in, by its commonest small words; ten languages of business letters."""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache

from metrikon.core.values.number_words import word_parts

LANGUAGES = ("en", "de", "fr", "es", "it", "nl", "pt", "da", "sv", "pl", "cs")
_COMMON = {
    "en": "the of and to for with is on at from your you our this that be are have we please date number each total not before by",
    "de": "der die das und mit von zu den dem für ist im auf des ein eine nicht wir sie ich bei nach bis zum zur datum nr uhr am vom je seit",
    "fr": "le la les de des du et à en pour est un une vous nous au aux sur par dans avec pas date je ce qui sont facture tva rue",
    "es": "el la los las de del y en para con un una por que su es al no se fecha lo le nos importe iva calle desde más",
    "it": "il lo la gli le di del della e in per con un una che è al alla non si da dei data iva totale via dal sono ogni",
    "nl": "de het een en van voor met op in is bij te aan niet wij u uw tot datum aantal btw per naar dat zijn door ik",
    "pt": "o a os as de do da dos e em para com um uma por que não no na ao data iva seu são mais rua desde",
    "da": "og i at er det en et til på med for af ikke den de der dato moms antal fra som vi ved jeg har",
    "sv": "och i att är det en ett till på med för av inte den de som datum moms antal från vi vid jag har eller",
    "cs": "a v na s se je o od za po k do nebo z že jsem jsme datum číslo prosím děkuji kč cena počet celkem dne bude jsou které který pro při podle",
    "pl": "i w na z do się nie jest o od dla za po to przy oraz data nr ilość razem zł ul wartość kwota sprzedawca",
}
_OF_WORD: dict[str, list[str]] = {}
for _code, _words in _COMMON.items():
    for _word in _words.split():
        _OF_WORD.setdefault(_word, []).append(_code)
_WORDS = re.compile(r"[^\W\d_]+")
MOST = 3000  # words that are looked at
FEW = 2  # small words; a text with no more of them is heard by its numbers in words as well: "doce euros en tierra" holds one, which four languages have
SHORTEST_NUMBER = 4  # letters of a number in words that tells something: "sei" and "ein" are other words elsewhere


@lru_cache(maxsize=256)
def _language(text: str) -> str | None:
    counts = dict.fromkeys(LANGUAGES, 0.0)
    for word in _WORDS.findall(text.lower())[:MOST]:
        homes = _OF_WORD.get(word, ())
        for home in homes:
            counts[home] += 1 / len(homes)
    if sum(counts.values()) <= FEW:
        _hear_numbers(text, counts)
    best = max(counts, key=lambda each: counts[each])
    return best if counts[best] > 0 else None


def _hear_numbers(text: str, counts: dict[str, float]) -> None:
    """Count the numbers in words of a short text for the languages that have them."""
    for word in _WORDS.findall(text.lower())[:MOST]:
        homes = [code for code in LANGUAGES if len(word) >= SHORTEST_NUMBER and word_parts(word, code)]
        for home in homes:
            counts[home] += 1 / len(homes)


def language_of(texts: Iterable[str]) -> str | None:
    """The language (ISO 639-1) that some texts are in, of `LANGUAGES`; None when no common word stands in them."""
    return _language("\n".join(texts)[:60_000])
