"""Days that lie so many days, weeks, months or years before or after another day of the record, by a length that is printed, said or described."""

from __future__ import annotations

import calendar
import re
from collections.abc import Iterator
from datetime import date, timedelta
from decimal import Decimal
from functools import lru_cache
from itertools import islice, product

from metrikon.core.extraction.grounding.numbers_of import Sought, of_record
from metrikon.core.extraction.grounding.shifted import SHIFT
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.indexing.measures import lengths
from metrikon.core.extraction.indexing.placed import said_of
from metrikon.core.extraction.indexing.units import UNIT
from metrikon.core.records.pointers import leaves, shape
from metrikon.core.values.dates import iso_day, parse_date
from metrikon.core.values.number_words import plain

MOST_DAYS, MOST_TERMS = 24, 24  # days from which terms are counted, and terms
LONGEST_DAYS, LONGEST_MONTHS = 400, 120  # of a term in days, in months
DAY, HOURS_OF_DAYS = 1440, 2880  # minutes; terms that are told in hours are of more than a day
_UNTIL = re.compile(
    r"due|until|till|expir|pay by|deadline|end|fallig|zahlbar|bis|ablauf|gultig|echeance|jusqu|limite|valab|valid|venc|hasta|plazo|scad|entro|verval|geldig|tot|betaal"
    r"|ate|forfald|frist|forfall|termin|splatn|wazn|caduc|uiterlijk|spatest|latest|before|avant|antes|prima|przed|limit|letzt|senast|senest|najpoz|nejpoz|renew|renouv|erneuer|vernieuw"
)


def from_another_day(sought: Sought) -> Iterator[str]:
    """A day or month that a printed or described length parts from another day of the record, or from the document's own."""
    wanted = _wanted(sought)
    if wanted is None:
        return
    about = plain(f"{sought.field.worded} {sought.field.schema.get('description') or ''}")
    forward = bool(_UNTIL.search(about))
    bases = [*islice(_bases(sought), MOST_DAYS), *(_printed(sought.index) if forward and not sought.in_row else ())]
    for name, base in bases:
        for length, unit, sign in _steps(sought.index, about, forward):
            moved = _moved(base, sign * length, unit)
            if moved is not None and _meets(wanted, moved, sought.field.kind, about):
                yield f"{length} {unit} {'after' if sign == 1 else 'before'} {name}"


def _wanted(sought: Sought) -> date | None:
    """The day that is sought, or the first of the month; None for other values."""
    if sought.field.kind == "month" and isinstance(sought.value, str):
        return _month(sought.value)
    return iso_day(sought.value) if sought.field.kind in ("date", "moment") else None


def _steps(index: Index, about: str, forward: bool) -> Iterator[tuple[int, str, int]]:
    """The terms of a document and of a description, each ahead for what ends, both ways where words beside it say before or after."""
    for length, unit, either in (*terms_of(index), *_described(about)):
        if forward or either:
            yield length, unit, 1
        if either:
            yield length, unit, -1


def whole_years(sought: Sought, value: Decimal) -> Iterator[str]:
    """How many whole years lie between two days of the record, or a day of it and one that the description names: an age on a day."""
    about = str(sought.field.schema.get("description") or "")
    if value != int(value) or not 1 < value < MOST_YEARS or not _AGE.search(plain(f"{sought.field.worded} {about}")):
        return
    bases = list(islice(_bases(sought), MOST_DAYS))
    described = [(found.isoformat(), found) for text in _DATES.findall(about) if (found := parse_date(text))]
    since = [(each.name, date(int(each.value), 1, 1)) for each in of_record(sought) if each.counts and 1900 <= each.value <= 2100]
    for (name, first), (other, last) in product((*bases, *since), (*bases, *described)):
        if last.year - first.year - ((last.month, last.day) < (first.month, first.day)) == value:
            yield f"whole years from {name} to {other}"


_AGE = re.compile(r"\bage|alter\b|\balder|\bage\b|edad|\beta\b|idade|leeftijd|wiek|\bvek\b|years|jahre|\bans\b|anni\b|anos\b|jaren|\bar\b|\blat\b")
_DATES = re.compile(r"\d{1,2}[./-]\d{1,2}[./-]\d{4}|\d{4}-\d\d-\d\d|\d{1,2}\.? [^\W\d_]+ \d{4}")
MOST_YEARS = 120


def _meets(wanted: date, moved: date, kind: str, about: str) -> bool:
    if kind == "month":
        return (wanted.year, wanted.month) == (moved.year, moved.month)
    last = moved.replace(day=calendar.monthrange(moved.year, moved.month)[1])
    ends = {moved, last} if re.search(r"fine mese|end of (?:the )?month|monatsende|fin de mois|fin de mes|einde maand|fdm|eom", about) else {moved}
    return wanted in ends


def _month(text: str) -> date | None:
    match = re.fullmatch(r"(\d{4})-(\d\d)", text)
    return date(int(match[1]), int(match[2]), 1) if match and 1 <= int(match[2]) <= 12 and int(match[1]) else None


def _bases(sought: Sought) -> Iterator[tuple[str, date]]:
    """The days of the record that stand in the document, of rows only those of the value's own, and the document's own."""
    row = sought.pointer.rsplit("/", 1)[0] if sought.in_row else None
    for pointer, value in leaves(sought.record):
        if pointer != sought.pointer and ("/*/" not in shape(pointer) or pointer.rsplit("/", 1)[0] == row):
            day = _day_at(sought, pointer, value)
            if day is not None:
                yield pointer[1:].replace("/", " "), day
    own = said_of(sought.index).own_date
    if own is not None:
        yield "the document's own day", own


def _day_at(sought: Sought, pointer: str, value: object) -> date | None:
    """The day or month at a pointer, where it stands in the document."""
    known, field = sought.evidence.get(pointer), sought.kind.by_shape.get(shape(pointer))
    if known is None or not known.found or field is None or not isinstance(value, str):
        return None
    if field.kind == "month":
        return _month(value)
    return iso_day(value) if field.kind in ("date", "moment") else None


def _printed(index: Index) -> list[tuple[str, date]]:
    """The days that are printed in the document."""
    months = [(text, day) for text in said_of(index).months if (day := _month(text)) is not None]
    return [*((day.isoformat(), day) for day in list(index.dates)[:MOST_DAYS]), *months[:MOST_DAYS]]


Term = tuple[int, str, bool]


def terms_of(index: Index) -> tuple[Term, ...]:
    """Lengths in days and months that are printed or said, and whether a word beside them says that they lie before or after something."""
    return index.once("terms of days", _terms)


def _terms(index: Index) -> tuple[Term, ...]:
    found: dict[tuple[int, str], bool] = {}
    for dimension, size, heard in lengths(index):
        unit, length = ("days", size / DAY) if dimension == "time" else ("months", size)
        if length != int(length) or not 0 < length <= (LONGEST_DAYS if unit == "days" else LONGEST_MONTHS):
            continue
        page = index.pages[heard.place.page]
        at = page.line_of[heard.place.words[0]]
        either = bool(SHIFT & set(re.findall(r"[a-z]+", plain(" ".join(line.text for line in page.lines[at : at + 2])))))
        key = (int(length), unit)
        found[key] = found.get(key, False) or either
    return tuple((length, unit, either) for (length, unit), either in found.items())[:MOST_TERMS]


@lru_cache(maxsize=2048)
def _described(about: str) -> tuple[Term, ...]:
    """Lengths that the description of a field names: "30 days after the invoice"."""
    found = []
    for count, word in re.findall(r"(\d{1,3})\s+([a-z]+)", about):
        unit = UNIT.get(word)
        size = {"days": 1, "weeks": 7, "months": 1, "years": 12}.get(unit or "", 0)
        if size:
            found.append((int(count) * size, "days" if unit in ("days", "weeks") else "months", True))
    return tuple(found)


def _moved(base: date, length: int, unit: str) -> date | None:
    """A day so many days or months on; the last of the month where that has no such day."""
    try:
        if unit == "days":
            return base + timedelta(days=length)
        month = base.year * 12 + base.month - 1 + length
        year, number = divmod(month, 12)
        return date(year, number + 1, min(base.day, calendar.monthrange(year, number + 1)[1]))
    except (ValueError, OverflowError):
        return None
