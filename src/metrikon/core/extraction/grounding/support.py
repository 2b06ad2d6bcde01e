"""What supports a value that does not stand in the document just as it is: said in words, put together, mapped, decided, derived.

Each rule looks for one kind of support and says how sure it is; the first that finds any has it. A value that no rule supports
stands nowhere.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import replace
from datetime import date
from decimal import Decimal
from typing import Any

from metrikon.core.extraction.grounding.data import in_its_data, in_numbers_of_its_data, told_by_data
from metrikon.core.extraction.grounding.downwards import down_a_column
from metrikon.core.extraction.grounding.figures import (
    a_number_in_words,
    a_thousand,
    amounts_together,
    as_a_fraction,
    in_groups,
    in_two_units,
    labelled_lines,
    of_a_range,
    one_of_them,
    within_print,
)
from metrikon.core.extraction.grounding.hours import an_hour
from metrikon.core.extraction.grounding.misprint import disguised, without_accents
from metrikon.core.extraction.grounding.nothing import for_nothing
from metrikon.core.extraction.grounding.shifted import a_shifted_time, a_weekday_to_come, an_ordinal_weekday
from metrikon.core.extraction.grounding.spans import a_day_of_a_span, an_end_of_a_month
from metrikon.core.extraction.grounding.wording import decided, in_other_words, misread, put_together, spelled_out
from metrikon.core.extraction.grounding.worldly import a_month, by_its_name
from metrikon.core.extraction.indexing.index import Index, Place
from metrikon.core.extraction.indexing.placed import best_heard, evidence_at, said_of
from metrikon.core.extraction.indexing.said import Heard
from metrikon.core.extraction.indexing.said_when import WEEKDAY, date_in
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.types import Field
from metrikon.core.values.dates import MONTHS, iso_day
from metrikon.core.values.number_words import plain
from metrikon.core.values.phones import written_forms

Rule = Callable[[Field, Any, Index], "Evidence | None"]


def supported(field: Field, value: Any, index: Index) -> Evidence | None:
    """The evidence for a value that stands nowhere as it is; None when nothing supports it."""
    return next((found for rule in RULES if (found := rule(field, value, index)) is not None), None)


def a_day(field: Field, value: Any, index: Index) -> Evidence | None:
    """A day said without its year, by weekday, or from the document's own date; for a moment its time too."""
    if field.kind not in ("date", "moment") or not isinstance(value, str):
        return None
    day = iso_day(value)
    if day is None:
        return None
    said = said_of(index)
    places = [Heard(place, 1.0 if place.exact else 0.7) for place in index.dates.get(day, [])]
    found = best_heard(index, places, "printed") or best_heard(index, said.day(day))
    if found is None and said.own_date == day:
        found = told_by_data(field, index, lambda text: str(day) in text or _holds_date(text, day))
    if field.kind == "date" or found is None:
        return found
    time = _clock(value[11:16], index)
    if time is None:
        return None
    return Evidence(found.how, found.page, found.box, f"{found.quote} … {time.quote}"[:300], round(min(found.sure, time.sure), 3))


def _holds_date(text: str, day: date) -> bool:
    return date_in(text) == day


def a_time(field: Field, value: Any, index: Index) -> Evidence | None:
    """A time of day said in words, or with its half of the day apart."""
    return _clock(value[:5], index) if field.kind == "time" and isinstance(value, str) else None


def _clock(text: str, index: Index) -> Evidence | None:
    if not re.fullmatch(r"\d\d:\d\d", text):
        return None
    minutes = int(text[:2]) * 60 + int(text[3:])
    exact = [
        place
        for form in (text.replace(":", ""), text.lstrip("0").replace(":", ""))
        for place in index.find_text(form)
        if place.exact and len(form) > 2
    ]
    if exact:
        return evidence_at(index, exact[0], 1.0)
    return best_heard(index, said_of(index).times.get(minutes, [])) or told_by_data(None, index, lambda fact: text in fact)


def a_telephone(field: Field, value: Any, index: Index) -> Evidence | None:
    """A number in E.164 whose figures are printed or read out, with or without its country; an extension may stand apart."""
    if not isinstance(value, str) or not re.fullmatch(r"\+\d{7,15}", value):
        return None
    said = said_of(index)
    forms = written_forms(value)
    for form in forms:
        places = said.find_figures(form, True) if len(form) >= 6 else []
        if places:
            return evidence_at(index, places[0], 0.95 if len(form) >= 8 else 0.8, "mapped")
    for own in (1, 2, 3, 4):
        extension = value[-own:]
        at = [place for form in forms if len(form) - own >= 6 for place in said.find_figures(form[:-own], True)]
        apart = [place for place in index.find_text(extension) if place.exact] if at else []
        if at and apart:
            best = min(apart, key=lambda place: (not index.quote(place).startswith(("-", "/", "–")), place.page))
            return evidence_at(index, best, 0.8, "mapped")
    return told_by_data(field, index, lambda text: any(re.sub(r"\D", "", text) == form for form in forms))


def a_sign(field: Field, value: Any, index: Index) -> Evidence | None:
    """A currency by its name in words, or by the country that the document is from."""
    if not isinstance(value, str) or not (field.kind == "currency" or (field.kind == "text" and field.names_money and value in _CURRENCY_NAMES)):
        return None
    names = _CURRENCY_NAMES.get(value, ())
    for run, (_, words, _) in enumerate(said_of(index).runs):
        for at, word in enumerate(words):
            if plain(word) in names:
                return evidence_at(index, said_of(index).place(run, at, at + 1), 0.9, "mapped")
    signs = _SIGNS_OF.get(value, "")
    for page in index.document.pages:
        for number, printed in enumerate(page.words):
            if any(sign in printed.text for sign in signs):
                return evidence_at(index, Place(page.number, (number,)), 0.9, "mapped")
    home = _CURRENCY_OF.get(index.country or "") or _OF_LANGUAGE.get(index.language or "")
    named = index.currency
    if home == value and named in (None, value):
        return Evidence("mapped", 0, None, "no currency is named; it is that of the document's country", 0.7)
    return None


_CURRENCY_NAMES = {
    "EUR": ("euro", "euros", "eur", "ευρω"), "USD": ("dollar", "dollars", "usd", "us$", "bucks"), "GBP": ("pound", "pounds", "gbp", "sterling", "quid", "pence", "p"),
    "CHF": ("franken", "chf", "sfr", "fr", "franchi", "francs", "stutz"), "SEK": ("kronor", "sek", "kr"), "DKK": ("kroner", "dkk", "kr"), "NOK": ("kroner", "nok", "kr"),
    "PLN": ("zloty", "zlotych", "zl", "pln"), "CZK": ("koruna", "korun", "kc", "czk"), "CAD": ("dollar", "dollars", "cad"), "AUD": ("dollar", "dollars", "aud"),
    "JPY": ("yen", "jpy"), "BRL": ("real", "reais", "brl"), "MXN": ("peso", "pesos", "mxn"), "HUF": ("forint", "ft", "huf"),
}  # fmt: skip
_SIGNS_OF = {"EUR": "€", "GBP": "£", "USD": "$", "CAD": "$", "AUD": "$", "NZD": "$", "MXN": "$", "JPY": "¥", "CNY": "¥"}
_CURRENCY_OF = {
    **dict.fromkeys(("DE", "AT", "FR", "ES", "IT", "NL", "BE", "IE", "PT", "FI", "LU", "GR"), "EUR"), "GB": "GBP", "US": "USD", "CH": "CHF", "SE": "SEK",
    "DK": "DKK", "NO": "NOK", "PL": "PLN", "CZ": "CZK", "CA": "CAD", "AU": "AUD",
}  # fmt: skip
_OF_LANGUAGE = {"de": "EUR", "fr": "EUR", "es": "EUR", "it": "EUR", "nl": "EUR", "pt": "EUR", "sv": "SEK", "da": "DKK", "pl": "PLN"}


def one_of_several_codes(field: Field, value: Any, index: Index) -> Evidence | None:
    """A short code that stands with others in one word: "B/BE"."""
    if not isinstance(value, str) or not 1 <= len(value) <= 4 or not value.isalnum():
        return None
    places = index.once("codes in one word", _codes_in_words).get(value, ())
    return evidence_at(index, places[0], 0.8) if places else None


def _codes_in_words(index: Index) -> dict[str, list[Place]]:
    found: dict[str, list[Place]] = {}
    for page in index.document.pages:
        for number, word in enumerate(page.words):
            parts = word.text.strip(",;:.()").split("/")
            for part in parts if 1 < len(parts) <= MOST_CODES else ():
                found.setdefault(part, []).append(Place(page.number, (number,)))
    return found


MOST_CODES = 6


def figures_in_words(field: Field, value: Any, index: Index) -> Evidence | None:
    """A short number that is wanted as text and said in a word: number eight of a street."""
    if field.kind != "text" or not isinstance(value, str) or not re.fullmatch(r"\d{1,3}", value):
        return None
    return best_heard(index, said_of(index).numbers.get(Decimal(value), []))


def in_another_form(field: Field, value: Any, index: Index) -> Evidence | None:
    """A weekday or a month that is wanted as text, in the form in which it stands alone: "sobota" where "každou sobotu" is printed."""
    word = plain(value).strip(".") if isinstance(value, str) and field.kind == "text" else ""
    number, names = (WEEKDAY[word], WEEKDAY) if word in WEEKDAY and len(word) > 3 else (MONTHS.get(word, 0), MONTHS) if len(word) > 3 else (0, {})
    if word not in names:
        return None
    for page in index.document.pages:
        for at, printed in enumerate(page.words):
            said = plain(printed.text).strip(".,;:()")
            if len(said) > 3 and names.get(said) == number:
                return evidence_at(index, Place(page.number, (at,)), 0.8, "mapped")
    return None


def of_its_form(field: Field, value: Any, index: Index) -> Evidence | None:
    """A text in the form of a day, a month or a time, in a field that asks for no form: what it means is looked for."""
    if field.kind != "text" or not isinstance(value, str) or not _DATED.fullmatch(value) or not _asks_when(field):
        return None
    if len(value) == 7:
        places = said_of(index).month(int(value[:4]), int(value[5:]))
        return evidence_at(index, places[0], 0.85, "mapped") if places else None
    form = "time" if value[2] == ":" else "date" if len(value) == 10 else "date-time"
    asked = replace(field, schema={**field.schema, "format": form})
    return next((found for rule in (a_day, a_time, an_hour, a_day_of_a_span) if (found := rule(asked, value, index)) is not None), None)


def _asks_when(field: Field) -> bool:
    """Whether the name of a field, or a form in its description, asks for a time."""
    said, about = plain(f"{field.worded} {field.title}"), plain(str(field.schema.get("description") or ""))
    return bool(_WHEN.search(said) or _FORM.search(about))


_WHEN = re.compile(
    r"\b(?:dat[aeo]|datum|fecha|day|tag|jour|dia|giorno|dag|dzien|den|when|wann|quand|cuando|quando|wanneer|kiedy|kdy|time|zeit|heure|hora|ora|tid|tijd|czas|cas"
    r"|month|monat|mois|mes|mese|maand|at|begin\w*|start\w*|from|since|until|till|to|end\w*|finish\w*|von|seit|bis|ab|anfang|ende|debut|fin|depuis|jusqu\w*"
    r"|desde|hasta|inicio|dal|da|al|fine|inizi\w*|van|vanaf|sinds|tot|eind\w*|ate|fra|til|slut|od|do|konec|koniec|valid\w*|due|expir\w*)\b"
)
_FORM = re.compile(r"yyyy|aaaa|jjjj|rrrr|\b(?:date|datum|fecha|data|dato)\b")
_DATED = re.compile(r"\d{4}-(?:0[1-9]|1[0-2])(?:-\d\d(?:T\d\d:\d\d(?::\d\d)?)?)?|\d\d:\d\d")


RULES: tuple[Rule, ...] = (
    a_number_in_words, a_day, a_time, an_hour, a_day_of_a_span, an_end_of_a_month, a_telephone, a_sign, spelled_out, down_a_column, put_together, in_its_data, in_numbers_of_its_data, by_its_name, a_month, decided,
    in_groups, of_a_range, in_two_units, of_its_form, one_of_several_codes, amounts_together, a_thousand, for_nothing, as_a_fraction, within_print, misread, disguised, without_accents, in_other_words, a_shifted_time, a_weekday_to_come, an_ordinal_weekday, figures_in_words, in_another_form, labelled_lines, one_of_them,
)  # fmt: skip
