"""Times and days that are said by what they are before or after: "an hour before the concert", "Friday" by the Saturday of the feast."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from datetime import date
from functools import lru_cache
from typing import Any

from metrikon.core.extraction.grounding.hours import hour_at
from metrikon.core.extraction.indexing.index import Index, Place
from metrikon.core.extraction.indexing.measures import lengths
from metrikon.core.extraction.indexing.placed import evidence_at, said_of
from metrikon.core.extraction.indexing.said_when import WEEKDAY
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.pointers import leaves, shape
from metrikon.core.records.types import Field, RecordType
from metrikon.core.values.dates import MONTHS, iso_day
from metrikon.core.values.number_words import plain

SURE = 0.7
NEAR_DAYS = 6  # days from another day of the record within which a weekday alone tells which one is meant
AFTER_DAY = 2  # lines after a weekday on which its time may stand
LONGEST = 12 * 60  # minutes by which one time may come before another
LEAST_NAME = 5  # letters of a weekday that may begin a longer word, such as "Freitagmittag"
_SHIFTS = (
    "before earlier prior ahead after later vor vorher nach spater avant plus tot apres tard antes despues mas temprano prima dopo anticipo voor eerder na later "
    "antes depois mais cedo for efter tidligere senere fore tidigare senare przed wczesniej po pozniej pred drive pozdeji "
    "lasts lasting takes duration dauer dauert dure duree dura durata duracion duracao duurt duur varighed varer varar trwa trwaja trva doba"
)
SHIFT = frozenset(_SHIFTS.split())


def a_shifted_time(field: Field, value: Any, index: Index) -> Evidence | None:
    """A time of day that is another printed one with so many minutes or hours before or after it, where words say so."""
    if field.kind != "time" or not isinstance(value, str) or not re.fullmatch(r"\d\d:\d\d(?::00)?", value):
        return None
    minutes = int(value[:2]) * 60 + int(value[3:5])
    for length, place in index.once("lengths before and after", _lengths).items():
        other = next((at for at in (minutes + length, minutes - length) if 0 <= at < 1440 and _stands(at, index)), None)
        if other is not None:
            return evidence_at(index, place, SURE, "derived")
    return None


def _stands(minutes: int, index: Index) -> bool:
    text = f"{minutes // 60:02}:{minutes % 60:02}"
    return minutes in index.once("times printed", _printed) or minutes in said_of(index).times or hour_at(text, index) is not None


def _printed(index: Index) -> frozenset[int]:
    """The times of day that are printed with their minutes, counted from midnight."""
    found = (match for page in index.document.pages for line in page.lines for match in _TIME.finditer(line.text))
    return frozenset(int(match[1]) * 60 + int(match[2]) for match in found if int(match[1]) < 24 and int(match[2]) < 60)


_TIME = re.compile(r"(?<![\d.,:])(\d{1,2})[:.,h](\d{2})(?!\d)")


def _lengths(index: Index) -> dict[int, Place]:
    """Minutes that stand on a line with a word for before or after, and where."""
    found: dict[int, Place] = {}
    for dimension, size, heard in lengths(index):
        page = index.pages[heard.place.page]
        line = page.lines[page.line_of[heard.place.words[0]]]
        beside = SHIFT & set(re.findall(r"[a-z]+", plain(line.text)))
        if dimension == "time" and beside and size == int(size) and size <= LONGEST:
            found.setdefault(int(size), heard.place)
    return found


def weekdays_near(kind: RecordType, record: Mapping[str, Any], evidence: dict[str, Evidence], index: Index) -> None:
    """Evidence for days that are said by their weekday alone, near another day of the record; for a moment its time stands by it."""
    for pointer, value in leaves(record):
        field = kind.by_shape.get(shape(pointer))
        known = evidence.get(pointer)
        if field is None or known is None or known.found or field.kind not in ("date", "moment"):
            continue
        day = iso_day(value)
        if day is None or not any(0 < abs((day - base).days) <= NEAR_DAYS for base in _days(kind, record, evidence)):
            continue
        place = next(_named_alone(day, value[11:16] if field.kind == "moment" else "", index), None)
        if place is not None:
            evidence[pointer] = evidence_at(index, place, SURE, "derived")


def _days(kind: RecordType, record: Mapping[str, Any], evidence: Mapping[str, Evidence]) -> Iterator[date]:
    """The days of a record that stand in the document."""
    for pointer, value in leaves(record):
        known, field = evidence.get(pointer), kind.by_shape.get(shape(pointer))
        if known is not None and known.found and known.how != "derived" and field is not None and field.kind in ("date", "moment"):
            day = iso_day(value)
            if day is not None:
                yield day


def _named_alone(day: date, time: str, index: Index) -> Iterator[Place]:
    """Words that name the weekday of a day without a number, with a time on their line or the next where one is given."""
    for place, numbered in index.once("weekdays named", _weekdays).get(day.weekday(), ()):
        page = index.pages[place.page]
        at = page.line_of[place.words[0]]
        near = " ".join(each.text for each in page.lines[at : at + AFTER_DAY]) if time else ""
        if (time and _time_within(time, near)) or (not time and not numbered):
            yield place


def _weekdays(index: Index) -> dict[int, list[tuple[Place, bool]]]:
    """Where each weekday is named, and whether the number of a day follows."""
    found: dict[int, list[tuple[Place, bool]]] = {}
    for page in index.document.pages:
        for line in page.lines:
            for number in range(line.first, line.last):
                weekday = weekday_of(page.words[number].text)
                if weekday is not None:
                    follows = page.words[number + 1].text if number + 1 < line.last else ""
                    found.setdefault(weekday, []).append((Place(page.number, (number,)), _DAY.match(follows) is not None))
    return found


_DAY = re.compile(r"\d{1,2}\.?(?![\d:.,h])")


def _time_within(time: str, text: str) -> bool:
    hour, minutes = time[:2], time[3:5]
    forms = rf"0?{int(hour)}[:.,h]\s?{minutes}" + (rf"|(?<![\d.,])0?{int(hour)}\s?(?:h|u|uhr|uur)?(?![\d:.,]\d|\d)" if minutes == "00" else "")
    return re.search(rf"(?<!\d)(?:{forms})", text) is not None


@lru_cache(maxsize=8192)
def weekday_of(word: str) -> int | None:
    """The weekday that a word names or begins with: "Friday,", "Freitagmittag"; None for other words and for short forms."""
    said = plain(word).strip(".,;:!?()")
    if len(said) >= LEAST_NAME and said in WEEKDAY:
        return WEEKDAY[said]
    return next((number for name, number in WEEKDAY.items() if len(name) > LEAST_NAME and said.startswith(name) and len(said) > len(name)), None)


def days_of_weekdays(index: Index, wanted: date) -> Place | None:
    """Where a longer word begins with the weekday of a day in the week after the document's own: "bis Freitagmittag"."""
    own = said_of(index).own_date or next((day for day in sorted(index.dates)), None)
    if own is None or not 0 < (wanted - own).days <= NEAR_DAYS + 1:
        return None
    return next(_named_alone(wanted, "", index), None)


def a_weekday_to_come(field: Field, value: Any, index: Index) -> Evidence | None:
    """A day of the week that follows the document's own, named by its weekday alone."""
    day = iso_day(value) if field.kind == "date" else None
    place = days_of_weekdays(index, day) if day is not None else None
    return evidence_at(index, place, SURE, "derived") if place else None


def an_ordinal_weekday(field: Field, value: Any, index: Index) -> Evidence | None:
    """A day that is told as the so-manieth weekday of a month: "the second Thursday of January"; for a moment its time stands anywhere."""
    day = iso_day(value) if field.kind in ("date", "moment") else None
    if day is None:
        return None
    place = index.once("ordinal weekdays", _ordinal_weekdays).get((day.month, day.weekday(), (day.day - 1) // 7 + 1))
    if place is None or (field.kind == "moment" and not _stands(int(value[11:13]) * 60 + int(value[14:16]), index)):
        return None
    return evidence_at(index, place, SURE, "derived")


def _ordinal_weekdays(index: Index) -> dict[tuple[int, int, int], Place]:
    """(month, weekday, which of the month) of each that is said, and where."""
    found: dict[tuple[int, int, int], Place] = {}
    said = said_of(index)
    for run, here in said.groups:
        words = said.runs[run][1]
        for one in here:
            after = [plain(word) for word in words[one.last : one.last + 4]]
            if not 1 <= one.value <= 5 or not after or after[0] not in WEEKDAY:
                continue
            month = next((MONTHS[word] for word in after[1:] if word in MONTHS and len(word) > 2), None)
            place = said.place(run, one.first, one.last + 4)
            if month and place.words:
                found.setdefault((month, WEEKDAY[after[0]], one.value), place)
    return found
