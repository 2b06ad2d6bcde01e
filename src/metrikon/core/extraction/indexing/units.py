"""Units that a field asks for by its name or description, and where a document has them: per cent, days, minutes and the like."""

from __future__ import annotations

import re
from functools import lru_cache

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.records.types import Field
from metrikon.core.values.number_words import plain

_WORDS = {
    "per cent": "% percent pct prozent pourcent pourcentage ciento porcentaje percento percentuale procent procentage procento",
    "days": "day days tag tage tagen jour jours dia dias giorno giorni dag dagen dage dagar dzien dni den dny dnu",
    "weeks": "week weeks woche wochen semaine semaines semana semanas settimana settimane weken uge uger vecka veckor tydzien tygodni tygodnie tyden tydny tydnu",
    "months": "month months monat monate monaten mois mes meses mese mesi maand maanden maned maneder manad manader miesiac miesiecy miesiace mesic mesice mesicu",
    "years": "year years jahr jahre jahren an ans annee annees ano anos anni anno jaar jaren ar rok lata lat roky roku let",
    "hours": "hour hours stunde stunden heure heures hora horas ora ore uur uren time timer timme timmar godzina godzin hodina hodiny hodin godziny godzine hrs std h",
    "minutes": "minute minutes minuten minuut minuto minutos minuti minut minutter minuter minuty min mins",
    "kilowatt hours": "kwh kilowattstunden kilowattheures",
    "kilometres": "km kilometer kilometre kilometres kilometers kilometros chilometri",
    "kilograms": "kg kilo kilos kilogram kilogramm kilogrammes",
    "grams": "gram grams gramm grammes gramos grammi grama gramas gr",
    "tonnes": "tonne tonnes tonnen tons toneladas tonnellate",
    "centimetres": "cm centimetre centimetres centimeter zentimeter centimetros centimetri",
    "persons": "person persons people personen personne personnes persona personas persone personer osob guests gaste couverts comensales coperti",
}  # fmt: skip
UNIT = {word: unit for unit, words in _WORDS.items() for word in words.split()}
_SPLIT = re.compile(r"[^\W\d_]+|%")
_OF_NAME = frozenset(
    ["den", "let", "an", "ar", "ano", "ora", "mes", "h", "min", "std", "dag", "lat", "time", "dia", "km", "kg"]
)  # too short or too common to say it within a description


@lru_cache(maxsize=4096)
def unit_of(field: Field) -> str | None:
    """The unit of a number field, by its name first, then by its description; None when several or none are named."""
    for text, name in (
        (field.worded, True),
        (str(field.schema.get("title") or ""), True),
        (str(field.schema.get("description") or ""), False),
    ):
        text = re.sub(r"\d+(?:[.,]\d+)?\s?%", "", text)  # a rate that tells one field from another is no unit
        found = {UNIT[word] for word in map(plain, _SPLIT.findall(text)) if word in UNIT and (name or word not in _OF_NAME)}
        if found:
            return found.pop() if len(found) == 1 else None
    return None


LONG = 5  # letters of a word for a unit that may end a longer one, such as "Betriebsstunden"


def lines_with(index: Index, unit: str) -> set[tuple[int, int]]:
    """(page, line) of the lines that hold a word for a unit, and a number."""
    return index.once(f"lines with {unit}", lambda each: _lines(each, unit))


def _lines(index: Index, unit: str) -> set[tuple[int, int]]:
    words = set(_WORDS[unit].split())
    long = tuple(word for word in words if len(word) >= LONG)
    return {
        (page.number, number)
        for page in index.document.pages
        for number, line in enumerate(page.lines)
        if any(said in words or said.endswith(long) for said in map(plain, _SPLIT.findall(line.text)))
    }
