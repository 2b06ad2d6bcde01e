"""Values of kinds that have one written form: telephone numbers, codes, addresses, times, units.

Each is brought to its form when it is read (the words of the document stay with its evidence), and is
looked for in the document under all the ways it may be written.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

from metrikon.core.extraction.index import Index, Place
from metrikon.core.values.codes import compact
from metrikon.core.values.phones import parse_phone, written_forms
from metrikon.core.values.times import parse_moment, parse_time
from metrikon.core.values.units import unit_code
from metrikon.core.values.web import parse_address, parse_mail


def _time(text: str, index: Index) -> str | None:
    found = parse_time(text)
    return found.isoformat() if found else None


FORMS: Mapping[str, Callable[[str, Index], str | None]] = {
    "phone": lambda text, index: parse_phone(text, index.country),
    "iban": lambda text, index: compact(text),
    "vat number": lambda text, index: compact(text),
    "article number": lambda text, index: compact(text),
    "mail": lambda text, index: parse_mail(text),
    "web address": lambda text, index: parse_address(text),
    "time": _time,
    "moment": lambda text, index: parse_moment(text, index.day_first),
    "unit": lambda text, index: unit_code(text),
}


def formed(kind: str, text: str, index: Index) -> str | None:
    """A text in the form of its kind; None when it is none of that kind, or the kind has no form."""
    form = FORMS.get(kind)
    return form(text, index) if form else None


def written(kind: str, value: str, index: Index) -> list[Place]:
    """Every place where a value of a kind with a form stands."""
    if kind == "phone":
        return _first(index, written_forms(value))
    if kind == "web address":
        bare = value.removeprefix("https://").removeprefix("http://")
        return _first(index, [value, bare, bare.removeprefix("www.")])
    if kind == "time":
        hour, minute = int(value[:2]), value[3:5]
        half = f"{hour % 12 or 12}{minute if minute != '00' else ''}{'pm' if hour >= 12 else 'am'}"
        return _first(index, [f"{value[:2]}{minute}", f"{hour}{minute}", f"{hour}h{minute}", half, f"{hour}uhr"])
    if kind == "moment":
        from datetime import date

        try:
            return index.dates.get(date.fromisoformat(value[:10]), []) or index.find_text(value)
        except ValueError:
            return index.find_text(value)
    if kind == "unit":
        words = ((page.number, n, word.text) for page in index.document.pages for n, word in enumerate(page.words))
        return [Place(page, (n,)) for page, n, text in words if unit_code(text) == value]
    return index.find_text(value)


def _first(index: Index, forms: list[str]) -> list[Place]:
    """The places of the first form that stands anywhere; whole words before parts of words."""
    found = [index.find_text(form) for form in dict.fromkeys(forms)]
    return next((places for places in ([p for p in each if p.exact] for each in found) if places), next((each for each in found if each), []))
