"""Values of kinds that have one written form: telephone numbers, codes, addresses, times, months, units.

Each is brought to its form when it is read (the words of the document stay with its evidence), in the spelling that the field's
schema takes, and is looked for in the document under all the ways it may be written.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from datetime import date

from metrikon.core.extraction.indexing.index import Index, Place, squeezed
from metrikon.core.extraction.indexing.said import Said
from metrikon.core.records.shapes import code_forms, shaped, takes
from metrikon.core.records.types import Field
from metrikon.core.values.codes import compact
from metrikon.core.values.dates import parse_date
from metrikon.core.values.number_words import read_out
from metrikon.core.values.phones import parse_phone, written_forms
from metrikon.core.values.times import parse_moment, parse_time
from metrikon.core.values.units import unit_code
from metrikon.core.values.web import parse_address, parse_mail

AREA = 6  # figures from which a number may hold its area code

Forms = Callable[[str, Index], Iterator[str]]


EXTENSION = re.compile(r"[-–](\d{1,4})")  # the last figures of a number, which take the place of its 0
_FOR_EXTENSIONS = re.compile(r"[(+]?\d[\d ()/.\u00a0–-]{4,24}[-–]0(?!\d)")


def _phone(text: str, index: Index) -> Iterator[str]:
    country = index.phone_country
    figures = re.sub(r"\D", "", text)
    if text.startswith("+") and len(figures) >= AREA and country and index.once("said", Said).find_figures(f"0{figures}", True):
        found = parse_phone(f"0{figures}", country)  # an area code taken for a country: "+40 …" where (040) … is printed
        if found:
            yield found
            return
    found = _extended(figures, index) or parse_phone(text, country) or parse_phone(read_out(text, index.language), country)
    if found is None and text.startswith("+"):
        found = parse_phone(text[1:], country)  # a plus before a number that has no country: "+5055550186"
    if found:
        yield found


def _extended(figures: str, index: Index) -> str | None:
    """The whole number that a printed extension stands for, where the document tells one number whose last 0 is made for them."""
    extension = max((each for each in index.once("extensions", _extensions) if figures.endswith(each)), key=len, default="")
    mains = index.once("main numbers", _main_numbers) if extension else ()
    if len(mains) != 1 or figures[: -len(extension)] not in mains[0]:
        return None
    return mains[0][:-1] + extension


def _extensions(index: Index) -> set[str]:
    """Extensions that stand by themselves, such as "-11"."""
    return {found[1] for page in index.document.pages for word in page.words if (found := EXTENSION.fullmatch(word.text.strip(",;.")))}


def _main_numbers(index: Index) -> list[str]:
    """Telephone numbers that end with a 0 after a dash, in E.164."""
    found = (match.group() for page in index.document.pages for line in page.lines for match in _FOR_EXTENSIONS.finditer(line.text))
    return list(dict.fromkeys(number for text in found if (number := parse_phone(text, index.phone_country))))


def _mail(text: str, index: Index) -> Iterator[str]:
    found = parse_mail(text) or parse_mail(read_out(text, index.language))
    if found:
        yield found


def _time(text: str, index: Index) -> Iterator[str]:
    found = parse_time(text)
    if found:
        yield found.isoformat()
        yield found.strftime("%H:%M")


def _moment(text: str, index: Index) -> Iterator[str]:
    found = parse_moment(text, index.day_first)
    if found:
        yield found
        yield found[:19]
        yield found[:16]
        yield found[:19].replace("T", " ")
        yield found[:16].replace("T", " ")


def _month(text: str, index: Index) -> Iterator[str]:
    body = text.strip()
    if match := re.fullmatch(r"((?:19|20)\d\d)[-/.](\d{1,2})(?:[-/.]\d{1,2})?", body):
        yield f"{match[1]}-{int(match[2]):02}"
    elif match := re.fullmatch(r"(\d{1,2})[-/.]((?:19|20)\d\d)", body):
        yield f"{match[2]}-{int(match[1]):02}"
    elif (day := parse_date(f"1 {body}")) or (day := parse_date(body)):
        yield f"{day.year}-{day.month:02}"
    if match := re.search(r"(?:19|20)\d\d", body):
        yield match.group()


def _simple(made: Callable[[str], str | None]) -> Forms:
    def forms(text: str, index: Index) -> Iterator[str]:
        found = made(text)
        if found:
            yield found

    return forms


FORMS: Mapping[str, Forms] = {
    "phone": _phone,
    "iban": _simple(compact),
    "vat number": _simple(compact),
    "article number": _simple(compact),
    "mail": _mail,
    "web address": _simple(parse_address),
    "time": _time,
    "moment": _moment,
    "month": _month,
    "unit": _simple(unit_code),
}


def formed(field: Field, text: str, index: Index) -> str | None:
    """A text in the form of its field; None when it is none of that kind, or stands well as it is.

    A value that the field's pattern takes as it is stays; else the first spelling that the pattern takes is chosen.
    """
    pattern = field.schema.get("pattern")
    if pattern and takes(pattern, text) and not (field.kind == "phone" and text.startswith("+") and parse_phone(text) is None):
        return text
    made = FORMS.get(field.kind)
    if made is not None:
        forms = list(made(text, index))
        if text in forms and not field.schema.get("format"):
            return text  # a form that only the description tells, and that the value has
        return shaped(field.schema, forms) if pattern else (forms[0] if forms else None)
    return shaped(field.schema, code_forms(text)) if pattern else None


def written(kind: str, value: str, index: Index) -> list[Place]:
    """Every place where a value of a kind with a form stands."""
    if kind == "phone":
        return _first(index, written_forms(value))
    if kind == "web address":
        bare = value.removeprefix("https://").removeprefix("http://")
        return _first(index, [value, bare, bare.removeprefix("www.")])
    if kind == "time":
        return _times(value, index)
    if kind == "moment":
        return _moments(value, index)
    if kind == "month":
        return _months(value, index)
    if kind == "unit":
        words = ((page.number, n, word.text) for page in index.document.pages for n, word in enumerate(page.words))
        return [Place(page, (n,)) for page, n, text in words if unit_code(text) == value]
    return index.find_text(value)


def _moments(value: str, index: Index) -> list[Place]:
    """Where the day of a moment stands with its time on the same line; where none has it, where the whole is written as it is."""
    try:
        days = index.dates.get(date.fromisoformat(value[:10]), [])
    except ValueError:
        days = []
    beside = [place for place in days if _has_time(value[11:19], place, index)]
    return beside or index.find_text(value) or ([] if value[11:16] not in ("", "00:00") else days)


def _has_time(time: str, place: Place, index: Index) -> bool:
    page = index.pages[place.page]
    at = page.line_of[place.words[-1]]
    near = " ".join(line.text for line in page.lines[at : at + 2])
    hour, minutes = time[:2], time[3:5]
    if time[6:8].isdecimal() and time[6:8] != "00" and re.search(r"\d:\d\d:\d\d", near):
        return time in near  # it is told to the second
    if not hour.isdecimal() or not minutes.isdecimal():
        return False
    half = int(hour) % 12 or 12
    return re.search(rf"(?<!\d)(?:0?{int(hour)}[:.,h]{minutes}|0?{half}[:.]{minutes} ?[ap]\.?m)", near, re.IGNORECASE) is not None


def _times(value: str, index: Index) -> list[Place]:
    if not re.fullmatch(r"\d\d:\d\d(?::\d\d)?.*", value):
        return index.find_text(value)
    hour, minute = int(value[:2]), value[3:5]
    half = f"{hour % 12 or 12}{minute if minute != '00' else ''}{'pm' if hour >= 12 else 'am'}"
    half_long = f"{hour % 12 or 12}{minute}{'pm' if hour >= 12 else 'am'}"
    return _first(index, [f"{value[:2]}{minute}", f"{hour}{minute}", f"{hour}h{minute}", half, half_long, f"{hour}uhr"])


def _months(value: str, index: Index) -> list[Place]:
    if match := re.fullmatch(r"(\d{4})-(\d\d)", value):
        return index.once("said", Said).month(int(match[1]), int(match[2])) if 1 <= int(match[2]) <= 12 else []
    found = [place for place in index.find_text(value) if place.exact or len(squeezed(value)) > 4] or index.find_text(value)
    return [*found, *year_places(value, index)]


def year_places(year: str, index: Index) -> list[Place]:
    """Where a year stands in one word with another."""
    return index.once("years of spans", _years_of_spans).get(year, [])


def _years_of_spans(index: Index) -> dict[str, list[Place]]:
    """The years that stand in one word with another: both ends of "2010–2012"."""
    found: dict[str, list[Place]] = {}
    for page in index.document.pages:
        for number, word in enumerate(page.words):
            for year in _ends(word.text) if len(word.text) <= LONGEST_SPAN else ():
                found.setdefault(year, []).append(Place(page.number, (number,)))
    return found


def _ends(text: str) -> list[str]:
    match = _SPAN_OF_YEARS.search(text)
    if match is None:
        return []
    return [match[1], match[2] if len(match[2]) == 4 else f"{match[1][:2]}{match[2]}"]


LONGEST_SPAN = 24  # characters of a word that holds a span of years
_SPAN_OF_YEARS = re.compile(r"(?<!\d)((?:19|20)\d\d)[–—/-]((?:19|20)\d\d|\d\d)(?![\d–—/-])")


def _first(index: Index, forms: list[str]) -> list[Place]:
    """The places of the first form that stands anywhere; whole words before parts of words."""
    found = [index.find_text(form) for form in dict.fromkeys(forms)]
    return next((places for places in ([p for p in each if p.exact] for each in found) if places), next((each for each in found if each), []))
