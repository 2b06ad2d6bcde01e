"""How much lies between two things: years of work, minutes of a meeting, nights of a stay; and what one printed number is more than another."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from itertools import permutations
from typing import Any

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.indexing.placed import said_of
from metrikon.core.extraction.indexing.units import unit_of
from metrikon.core.records.pointers import escape, get, shape
from metrikon.core.records.types import Field
from metrikon.core.values.number_words import plain

_UNITS = {"minutes": 60, "hours": 3600, "days": 86_400, "weeks": 604_800}
_NIGHTS = re.compile(r"night|nacht|nuit|noche|nott|noite|natt|nocleg|noc")
_AGE = re.compile(
    r"experience|erfahrung|practice|age$|alter$|years? (?:of|in)|esperienza|experiencia|ervaring|erfaring|erfarenhet|doswiadcz|praxe|seniority|anciennet"
)
DAY = 86_400  # seconds
TIME_ONLY = date(2000, 1, 1)  # stands for the day of a time of day
MOST_TIMES, MOST_NUMBERS = 12, 4  # times of a record, numbers of a line that are set against each other


def span(field: Field, value: Decimal, record: Mapping[str, Any], pointer: str) -> str | None:
    """The two times of a record between which so many units lie, told; None where there are none."""
    unit = unit_of(field)
    size = _UNITS.get(unit or "") or (DAY if _NIGHTS.search(plain(field.worded)) else 0)
    if not size:
        return None
    times = list(_times(record, pointer))[:MOST_TIMES]
    for (one, a), (two, b) in permutations(times, 2):
        if TIME_ONLY in (a.date(), b.date()):
            a, b = datetime.combine(TIME_ONLY, a.time()), datetime.combine(TIME_ONLY, b.time())  # of one only the time of day is told
        if (b - a).total_seconds() == float(value) * size:
            return f"from {one} to {two}"
        if size == DAY and 0 < (b.date() - a.date()).days == value:
            return f"from {one} to {two}"
        if unit == "days" and a.time() == b.time() and (b - a).days + 1 == value > 1:
            return f"from {one} to {two}, both counted"
    return None


def months_between(field: Field, value: Decimal, record: Mapping[str, Any], pointer: str) -> str | None:
    """The two months or days of a record between which so many months lie, the last counted or not; None where there are none."""
    if unit_of(field) != "months":
        return None
    for (one, a), (two, b) in permutations(list(_times(record, pointer))[:MOST_TIMES], 2):
        months = (b.year - a.year) * 12 + b.month - a.month
        if months > 0 and value in (months, months + 1):
            return f"from {one} to {two}"
    return None


def _times(record: Mapping[str, Any], pointer: str) -> Iterator[tuple[str, datetime]]:
    """The times of the row or object that a value stands in; of the record without its lists where that has fewer than two."""
    above = pointer.rpartition("/")[0]
    near = list(_of(get(record, above) if above else record, above))
    outside = "/*" not in shape(pointer) and len(near) < 2
    yield from _of(record, "") if outside else near


def _of(part: Any, pointer: str) -> Iterator[tuple[str, datetime]]:
    """The times among the values of an object, and of the objects in it."""
    if not isinstance(part, Mapping):
        return
    for name, value in part.items():
        at = f"{pointer}/{escape(name)}"
        if isinstance(value, Mapping):
            yield from _of(value, at)
        elif isinstance(value, str) and (when := _when(value)) is not None:
            yield at, when


def _when(text: str) -> datetime | None:
    try:
        if re.fullmatch(r"\d\d:\d\d(?::\d\d)?", text):
            return datetime.combine(TIME_ONLY, time()) + timedelta(hours=int(text[:2]), minutes=int(text[3:5]))
        if re.fullmatch(r"\d{4}-\d\d", text):
            return datetime(int(text[:4]), int(text[5:]), 1)
        return datetime.fromisoformat(text).replace(tzinfo=None) if re.match(r"\d{4}-\d\d-\d\d", text) else None
    except ValueError:
        return None


_DIFFERS = re.compile(
    r"differ|increase|decrease|growth|change|more than|less than|rise|saving|unterschied|mehr|zuwachs|anstieg|ersparnis|ecart|hausse|baisse|economie|diferen"
    r"|aumento|ahorro|reducc|scarto|risparmio|verschil|toename|besparing|aumento|poupan|forskel|stigning|skillnad|okning|roznic|wzrost|rozdil|narust|ero$"
)


def difference_printed(field: Field, value: Decimal, index: Index) -> str | None:
    """Two whole numbers on one line or the next of which one is so much more than the other, told; None where no difference is asked for."""
    said = plain(f"{field.worded} {field.schema.get('description') or ''}")
    if value != int(value) or value <= 0 or not _DIFFERS.search(said):
        return None
    return index.once("differences", _differences).get(value)


def _differences(index: Index) -> dict[Decimal, str]:
    found: dict[Decimal, str] = {}
    by_line: dict[tuple[int, int], list[Decimal]] = {}
    for here in index.numbers_at.values():
        for place, number in here:
            if number == int(number) and number > 0:
                by_line.setdefault((place.page, index.pages[place.page].line_of[place.words[0]]), []).append(number)
    for (page, line), numbers in by_line.items():
        near = [*numbers, *by_line.get((page, line + 1), ())]
        if len(near) <= MOST_NUMBERS:
            for one, two in permutations(dict.fromkeys(near), 2):
                if one > two:
                    found.setdefault(one - two, f"{one} less {two}")
    return found


def years_since(field: Field, value: Decimal, index: Index, today: str) -> str | None:
    """Years from the earliest year that a paper names to its latest one, or to the day that it is; None for other fields."""
    if unit_of(field) != "years" or not _AGE.search(plain(field.worded)):
        return None
    years = sorted(
        {int(each) for page in index.document.pages for word in page.words for each in re.findall(r"(?<!\d)((?:19|20)\d\d)(?!\d)", word.text)}
    )
    own = said_of(index).own_date
    ends = {years[-1], own.year if own else years[-1], int(today[:4]) if today else years[-1]} if years else set()
    first = next((year for year in years for end in ends if end - year == value), None)
    return f"since {first}" if first is not None else None
