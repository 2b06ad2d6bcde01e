"""Codes for what the document has by name: a country, a language, a month. Names from the Unicode Common Locale Data Repository."""

from __future__ import annotations

import re
from decimal import Decimal
from functools import lru_cache
from typing import Any

from babel import Locale, UnknownLocaleError

from metrikon.core.extraction.indexing.index import Index, Place
from metrikon.core.extraction.indexing.placed import evidence_at
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.types import Field
from metrikon.core.values.number_words import plain

SURE, BY_OTHER = 0.8, 0.65  # by its name; by an account, a number or a currency that only one country has
EVERYWHERE = ("en",)  # languages in which names stand in papers of any language
_COUNTRY = re.compile(r"countr|land|pays|pais|paese|nation|kraj|zeme|maa$|stat")
_LANGUAGE = re.compile(r"lang|sprach|idiom|lingu|taal|sprak|sprog|jezyk|jazyk|kiel")
_MONTH = re.compile(r"month|monat|mois|mes|maand|maned|manad|miesia|mesic|kuukau")
SHORTEST = 3  # letters of a name that is looked for


def by_its_name(field: Field, value: Any, index: Index) -> Evidence | None:
    """A code of two or three letters whose name stands in the document."""
    if not isinstance(value, str) or not re.fullmatch(r"[A-Za-z]{2,3}", value):
        return None
    about = plain(f"{field.shape.replace('/', ' ')} {field.worded} {field.schema.get('description') or ''}")
    for wanted, names in ((_COUNTRY, _territories), (_LANGUAGE, _languages)):
        if wanted.search(about) and (place := _stands(names(index.language or "en").get(value.upper(), ()), index)):
            return evidence_at(index, place, SURE, "mapped")
    if _COUNTRY.search(about) and value.upper() in (index.country, index.phone_country):
        return Evidence("mapped", 0, None, "by accounts, tax numbers, telephone numbers or the currency", BY_OTHER)
    return None


def a_month(field: Field, value: Any, index: Index) -> Evidence | None:
    """The number of a month whose name stands in the document, or that lies within a span of months."""
    whole = isinstance(value, int | Decimal) and not isinstance(value, bool) and value == int(value) and 1 <= value <= 12
    if not whole or not _MONTH.search(plain(field.shape.replace("/", " "))):
        return None
    places = _months_in(index)
    if int(value) in places:
        return evidence_at(index, places[int(value)], SURE, "mapped")
    if len(places) >= 2 and min(places) <= int(value) <= max(places):
        return evidence_at(index, places[min(places)], BY_OTHER, "mapped")
    return None


def _months_in(index: Index) -> dict[int, Place]:
    found: dict[int, Place] = {}
    names = months_named(index.language or "en")
    for page in index.document.pages:
        for number, word in enumerate(page.words):
            for part in re.findall(r"[^\W\d_]+", word.text):
                if (month := names.get(plain(part))) is not None:
                    found.setdefault(month, Place(page.number, (number,)))
    return found


def _stands(names: tuple[str, ...], index: Index) -> Place | None:
    for name in names:
        if len(name) >= SHORTEST and (places := [place for place in index.find_text(name) if place.exact]):
            return places[0]
    return None


def _locales(language: str) -> list[Locale]:
    found = []
    for code in dict.fromkeys((language, *EVERYWHERE)):
        try:
            found.append(Locale.parse(code))
        except (UnknownLocaleError, ValueError):
            continue
    return found


@lru_cache(maxsize=32)
def _territories(language: str) -> dict[str, tuple[str, ...]]:
    """The names of each country (ISO 3166-1, two letters) in a language and in those that stand everywhere."""
    return _names([locale.territories for locale in _locales(language)])


@lru_cache(maxsize=32)
def _languages(language: str) -> dict[str, tuple[str, ...]]:
    """The names of each language (ISO 639) in a language and in those that stand everywhere."""
    return _names([locale.languages for locale in _locales(language)])


def _names(tables: list[Any]) -> dict[str, tuple[str, ...]]:
    found: dict[str, list[str]] = {}
    for table in tables:
        for code, name in table.items():
            found.setdefault(str(code).upper(), []).append(str(name))
    return {code: tuple(dict.fromkeys(names)) for code, names in found.items()}


@lru_cache(maxsize=32)
def months_named(language: str) -> dict[str, int]:
    """The months by their names in a language, in all forms."""
    found: dict[str, int] = {}
    for locale in _locales(language):
        for form in ("format", "stand-alone"):
            for width in ("wide", "abbreviated"):
                for number, name in locale.months.get(form, {}).get(width, {}).items():
                    key = plain(str(name)).strip(".")
                    if len(key) >= SHORTEST and key.isalpha():
                        found.setdefault(key, number)
    return found
