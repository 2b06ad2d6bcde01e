"""Numbers of another unit than a field asks for: a warranty of two years in months, an hour and a half in minutes, a fortnight in days.

Measures that are said or printed are taken to the smallest unit of their kind: minutes, months, grams, millimetres.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from decimal import Decimal
from fractions import Fraction

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.indexing.placed import said_of
from metrikon.core.extraction.indexing.said import Heard, half_more
from metrikon.core.extraction.indexing.said_when import BREAK, HOURS, QUARTER
from metrikon.core.extraction.indexing.units import UNIT
from metrikon.core.values.number_words import Group, plain

SIZES = {
    "minutes": ("time", 1), "hours": ("time", 60), "days": ("time", 1440), "weeks": ("time", 10080), "months": ("months", 1), "years": ("months", 12),
    "grams": ("mass", 1), "kilograms": ("mass", 1000), "tonnes": ("mass", 1_000_000), "centimetres": ("length", 10), "kilometres": ("length", 1_000_000),
}  # fmt: skip
_WHOLE = {  # words that are a number with its unit
    "viertelstunde": (15, "minutes"), "viertelstunden": (15, "minutes"), "dreiviertelstunde": (45, "minutes"), "kwartier": (15, "minutes"),
    "kvart": (15, "minutes"), "kvarter": (15, "minutes"), "kwadrans": (15, "minutes"), "mezzora": (30, "minutes"), "mezz'ora": (30, "minutes"),
    "fortnight": (14, "days"), "fortnights": (14, "days"), "quincena": (15, "days"), "halbjahr": (6, "months"),
    "quartal": (3, "months"), "trimestre": (3, "months"), "semestre": (6, "months"), "decade": (10, "years"), "decades": (10, "years"),
}  # fmt: skip
_QUARTERS = QUARTER | {"quarters", "quarts", "cuartos", "quarti", "quartos", "dreiviertel"}
_ONE = {"a", "an", "one", "ein", "eine", "einen", "einem", "einer", "un", "une", "una", "uno", "een", "um", "uma", "et", "en", "ett"}
_BETWEEN = {"of", "an", "a", "d", "de", "di", "of an", "-", "full", "whole", "volle", "ganze", "good", "gute"}
MOST_BETWEEN = 2
_OF_HOUR = re.compile(r"d'(?:heure|ora)|dora|dheure|hora|ora|hour|stunde|uur|time|timme|heure|godziny")


def measured(index: Index, unit: str, value: Decimal) -> list[Heard]:
    """Where a number of a unit is said in another one, surest unsorted; nothing for units that have no others."""
    dimension, size = SIZES.get(unit, ("", 0))
    return index.once("measures", _measures).get((dimension, Fraction(value) * size), []) if dimension else []


def lengths(index: Index) -> Iterator[tuple[str, Fraction, Heard]]:
    """Every length of time that is said or printed: ("time", minutes) and ("months", months), and where."""
    for (dimension, size), heard in index.once("measures", _measures).items():
        if dimension in ("time", "months"):
            for each in heard:
                yield dimension, size, each


def _measures(index: Index) -> dict[tuple[str, Fraction], list[Heard]]:
    found: dict[tuple[str, Fraction], list[Heard]] = {}
    said = said_of(index)
    for run, here in said.groups:
        words = [plain(word) for word in said.runs[run][1]]
        for count, unit, first, last, sure in (*_counted(words, here), *_parts(words, here)):
            dimension, size = SIZES[unit]
            place = said.place(run, first, last)
            if place.words:
                found.setdefault((dimension, count * size), []).append(Heard(place, sure))
    return found


Measure = tuple[Fraction, str, int, int, float]


def _counted(words: list[str], here: list[Group]) -> Iterator[Measure]:
    """Numbers before a unit, with a half or the minutes that follow: "two years", "4 h 34 min", "deux heures et demie"."""
    for at, one in enumerate(here):
        half = half_more(words, one)
        if half and (unit := next((found for word in words[one.last : one.last + half + 2] if (found := _unit(word))), None)):
            yield Fraction(one.value) + Fraction(1, 2), unit, one.first, one.last + half, 0.8
        reach = _reach(words, one.last)
        if reach is None:
            continue
        count = Fraction(one.value)
        if one.first >= 2 and words[one.first - 1] in ".," and words[one.first - 2].isdecimal():
            count = Fraction(f"{words[one.first - 2]}.{one.figures}")
        unit = _unit(words[reach])
        whole, of = _WHOLE.get(words[reach], (1, unit or "minutes"))
        yield count * whole, of, one.first, reach + 1, 0.7
        two = here[at + 1] if at + 1 < len(here) else None
        if unit == "hours" and two is not None and 0 <= two.first - reach - 1 <= 1 and two.value < 60:
            yield Fraction(one.value * 60 + two.value), "minutes", one.first, two.last, 0.9


def _parts(words: list[str], here: list[Group]) -> Iterator[Measure]:
    """One of a unit, quarters and halves of an hour: "a year", "three quarters of an hour", "un'ora e mezza"."""
    numbers = {one.last: one for one in here}
    for at, word in enumerate(words):
        before = words[at - 1] if at else BREAK
        if word in _WHOLE and before not in _ONE:
            yield Fraction(_WHOLE[word][0]), _WHOLE[word][1], at, at + 1, 0.7
        yield from _one_of(words, at, before)
        if word in _QUARTERS and any(_OF_HOUR.fullmatch(each) for each in words[at + 1 : at + 4]):
            count = numbers[at].value if at in numbers else 3 if word == "dreiviertel" else 1
            yield Fraction(count * 15), "minutes", at - (at in numbers), at + 2, 0.8
        share, sure = (Fraction(1, 2), 0.7) if word in _HALVES else (Fraction(3, 2), 0.8) if word in _AND_A_HALF else (Fraction(0), 0.0)
        unit = next((found for each in words[at + 1 : at + 3] if (found := _unit(each))), None) if share else None
        if unit:
            yield share, unit, at, at + 2, sure


def _one_of(words: list[str], at: int, before: str) -> Iterator[Measure]:
    """One of a unit, and a part more: "a year", "un'ora", "an hour and a half"."""
    one, _, of_one = words[at].partition("'")
    if of_one and one in ("un", "d") and (unit := _unit(of_one)):
        yield Fraction(1), unit, at, at + 1, 0.65
    unit = _unit(words[at])
    if unit and (before in _ONE or before.startswith("un'")):
        yield Fraction(1), unit, at - 1, at + 1, 0.65
        after = [each for each in words[at + 1 : at + 4] if each not in _ONE]
        if len(after) > 1 and after[0] in _AND_MORE and after[1] in _PART:
            yield Fraction(1) + _PART[after[1]], unit, at - 1, at + 3, 0.8


_AND_MORE = {"and", "und", "et", "y", "e", "en", "og", "och", "i"}
_HALVES = {"half", "halbe", "halben", "halbes", "demi", "demie", "media", "medio", "mezza", "mezzo", "halve", "meia", "halv", "pol"}
_PART = {**dict.fromkeys(_HALVES, Fraction(1, 2)), **dict.fromkeys(QUARTER, Fraction(1, 4))}
_AND_A_HALF = {"anderthalb", "eineinhalb", "einundhalb", "anderhalf", "anderhalve", "halvanden", "poltora", "poltorej", "poldruhe"}


def _unit(word: str) -> str | None:
    unit = "hours" if word in HOURS else UNIT.get(word.rstrip("'s") if word.endswith("'s") else word.rstrip("'"))
    return unit if unit in SIZES else None


def _reach(words: list[str], at: int) -> int | None:
    """Where the unit of a number stands that ends before `at`; None when other words part them."""
    for number in range(at, min(len(words), at + 1 + MOST_BETWEEN)):
        if _unit(words[number]) or words[number] in _WHOLE:
            return number
        if words[number] not in _BETWEEN:
            return None
    return None
