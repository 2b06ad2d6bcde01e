"""Days that are printed as part of a span: "21.–24.8.2025", "del 3 al 7 de mayo de 2026", "14 and 28 March"."""

from __future__ import annotations

import re
from datetime import timedelta
from typing import Any

from metrikon.core.extraction.grounding.hours import hour_at
from metrikon.core.extraction.grounding.worldly import months_named
from metrikon.core.extraction.indexing.index import Index, Place
from metrikon.core.extraction.indexing.placed import evidence_at, said_of
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.types import Field
from metrikon.core.values.dates import iso_day
from metrikon.core.values.number_words import plain

SURE, OF_A_MONTH = 0.75, 0.7
_DAY = re.compile(r"(?<![\d.,:/])(\d{1,2})(?:st|nd|rd|th|er|º|\.)?(?![\d:%€$£]|[.,]\d)")
_FIGURES = re.compile(r"(?<!\d)(\d{1,2})\s?[./]\s?(\d{1,2})\.?(?:\s?[./]?\s?(\d{4}|\d{2}))?(?!\d)")
_YEAR = re.compile(r"(?<!\d)((?:19|20)\d{2})(?!\d)")


def a_day_of_a_span(field: Field, value: Any, index: Index) -> Evidence | None:
    """A day whose number stands on a line that has its month, and its year unless the document has no other; for a moment its hour too."""
    if field.kind not in ("date", "moment") or not isinstance(value, str):
        return None
    day = iso_day(value)
    if day is None:
        return None
    place = index.once("days of spans", _lines).get((day.month, day.day))
    if place is None or not _year_fits(day.year, index.quote(place), index):
        return None
    found = evidence_at(index, place, SURE, "mapped")
    if field.kind == "date":
        return found
    hour = hour_at(value[11:16], index) or _printed_time(value[11:16], index)
    return found if hour else None


def an_end_of_a_month(field: Field, value: Any, index: Index) -> Evidence | None:
    """The first or the last day of a month that is named with its year: a period, what is valid until the end of it."""
    if field.kind != "date" or not isinstance(value, str):
        return None
    day = iso_day(value)
    if day is None:
        return None
    if day.day != 1 and (day + timedelta(days=1)).day != 1:
        return None
    if any((each.year, each.month) == (day.year, day.month) for each in index.dates):
        return None  # a day of it is named: it is no period
    places = said_of(index).months.get(value[:7])
    return evidence_at(index, places[0], OF_A_MONTH, "mapped") if places else None


def _printed_time(time: str, index: Index) -> bool:
    minutes = int(time[:2]) * 60 + int(time[3:5])
    forms = {time, time.lstrip("0"), time.replace(":", "."), time.replace(":", ","), time.replace(":", "h")}
    return any(form in line.text for page in index.document.pages for line in page.lines for form in forms) or minutes in said_of(index).times


def _year_fits(year: int, line: str, index: Index) -> bool:
    """Whether a year stands on the line, or is the document's own where none does."""
    printed = {int(each) for each in _YEAR.findall(line)}
    printed |= {2000 + int(each[2]) for each in _FIGURES.findall(line) if len(each[2]) == 2}
    if printed:
        return year in printed
    own = said_of(index).own_date
    years = {day.year for day in index.dates} | ({own.year} if own else set())
    return year in years or (own is not None and year == own.year + 1)


def _lines(index: Index) -> dict[tuple[int, int], Place]:
    """The line that has each (month, day): its month by name or figures, and the number of the day."""
    found: dict[tuple[int, int], Place] = {}
    names = months_named(index.language or "en")
    for page in index.document.pages:
        for line in page.lines:
            text = line.text
            months = {names[word] for word in map(plain, re.findall(r"[^\W\d_]{3,}", text)) if word in names}
            figures = [match for match in _FIGURES.finditer(text) if 1 <= int(match[2]) <= 12]
            months |= {int(match[2]) for match in figures}
            if not months:
                continue
            days = {int(each) for each in _DAY.findall(text)} | {int(match[1]) for match in figures}
            place = Place(page.number, tuple(range(line.first, line.last)))
            for month in months:
                for number in days:
                    if 1 <= number <= 31:
                        found.setdefault((month, number), place)
    return found
