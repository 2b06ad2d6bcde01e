"""Prices, counts and numbers in words that are said in a talk."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from decimal import Decimal

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.indexing.said import Aloud, Said
from metrikon.core.values.number_words import Group, is_ordinal, plain

_COINS = "euro euros eur dollar dollars pound pounds franken francs francos franchi kronor kroner kr zloty zlotych € $ £"
_COSTS = "each per apiece kost kosten costs price stuk stück stueck pro je pièce piece chacun chacune prix cada uno precio cadauno prezzo"
MONEY = frozenset(_COINS.split())
PRICED = MONEY | frozenset(_COSTS.split())
_NO_NUMBERS = {
    "fr": {"neuf", "un", "une"},
    "it": {"sei", "uno", "una", "un"},
    "pt": {"meia", "um", "uma"},
    "en": {"o", "oh", "one", "second", "grand"},
}
AROUND_PAIR = 4  # tokens around two numbers that say whether they are a price or a time
YEAR_BEGINS = range(17, 21)  # "nineteen ninety-eight"


def amounts(said: Said, index: Index) -> Iterator[Aloud]:
    """Prices in two halves, and numbers in words. What is only a word by chance stays as it is."""
    language = index.language or "en"
    alone = _NO_NUMBERS.get(language, {"een", "ein", "eine", "einen", "einem", "einer", "un", "una", "en", "et", "jeden"})
    for run, (_, words, _) in enumerate(said.runs):
        here = said.groups[run][1]
        for at, one in enumerate(here):
            two = here[at + 1] if at + 1 < len(here) else None
            pair = _pair(words, one, two, language) if two else None
            if two and pair is not None:
                money = " ".join(words[one.last : two.first])
                yield Aloud("amount", run, one.first, two.last, f"{f'{pair:.2f}' if pair != int(pair) else int(pair)} {money}".strip())
            digits = _digits(words, here, at)
            if digits:
                yield Aloud("number", run, one.first, digits[1], digits[0])
            spelled = not words[one.first].isdecimal()
            word = plain(words[one.first])
            if spelled and not (one.last - one.first == 1 and (word in alone or one.value < 2 or is_ordinal(word, language))):
                yield Aloud("number", run, one.first, one.last, one.figures)


def _pair(words: Sequence[str], one: Group, two: Group, language: str) -> Decimal | None:
    """The price or number that two numbers come to; None where it is open, or they are two."""
    between = [plain(word) for word in words[one.last : two.first]]
    if two.value >= 100 or one.value == 0 or (words[one.first].isdecimal() and not between) or is_ordinal(plain(words[one.last - 1]), language):
        return None
    if len(between) == 1 and between[0] in MONEY:
        return one.value + Decimal(two.value) / 100
    if between or two.value < 10 or two.figures[0] == "0":
        return None
    if one.value <= 24 and two.value < 60:  # a time, unless a price is spoken of
        around = {plain(word) for word in (*words[max(0, one.first - AROUND_PAIR) : one.first], *words[two.last : two.last + AROUND_PAIR])}
        if not around & PRICED:
            return None
    if language == "en" and (one.value < 10 or one.value in YEAR_BEGINS):
        return Decimal(one.value * 100 + two.value)
    return one.value + Decimal(two.value) / 100 if one.value < 1000 else None


def _digits(words: Sequence[str], here: Sequence[Group], at: int) -> tuple[str, int] | None:
    """Figures read out one by one: three or more, unless somebody counts."""
    text, last = here[at].figures, here[at].last
    if len(text) != 1:
        return None
    for each in here[at + 1 :]:
        if len(each.figures) != 1 or any(word != "," for word in words[last : each.first]):
            break
        text, last = text + each.figures, each.last
    counted = text in "0123456789"
    return (text, last) if len(text) >= 3 and not counted else None
