"""Dates as people print them, in words and numbers; the order of day and month from the document."""

from __future__ import annotations

import re
from collections.abc import Iterable
from datetime import date
from functools import lru_cache
from typing import Any

from metrikon.core.values.text import fold

_MONTHS = {
    1: "january jan januar janner janvier janv enero ene januari gennaio gen janeiro ianuarie stycznia styczen styczniu leden ledna lednu januarii januar",
    2: "february feb februar fevrier fevr febrero februari febbraio fevereiro fev lutego luty lutym unor unora unoru",
    3: "march mar marz mrz mars marzo maart mrt marco marts marca marzec marcu brezen brezna breznu",
    4: "april apr avril avr abril abr aprile kwietnia kwiecien kwietniu duben dubna dubnu",
    5: "may mai mayo mei maggio mag maio maj maja maju kveten kvetna kvetnu majus",
    6: "june jun juni juin junio giugno giu junho czerwca czerwiec czerwcu cerven cervna cervnu",
    7: "july jul juli juillet juil julio luglio lug julho lipca lipiec lipcu cervenec cervence cervenci",
    8: "august aug aout agosto ago augustus avgust sierpnia sierpien augusti sierpniu srpen srpna srpnu",
    9: "september sep sept septembre septiembre settembre set setembro wrzesnia wrzesien wrzesniu zari",
    10: "october oct oktober okt octobre octubre ottobre ott outubro out pazdziernika pazdziernik pazdzierniku rijen rijna rijnu",
    11: "november nov novembre noviembre novembro listopada listopad listopadzie listopadu",
    12: "december dec dezember dez decembre diciembre dic dicembre dezembro grudnia grudzien grudniu prosinec prosince prosinci",
}
MONTHS = {name: number for number, names in _MONTHS.items() for name in names.split()}
_ISO = re.compile(r"^(\d{4})([-/.])(\d{1,2})\2(\d{1,2})(?:T\d\d:?\d\d.*)?$")
_NUMERIC = re.compile(r"^(\d{1,2})([./-]) ?(\d{1,2})\2 ?(\d{4}|\d{2})$")
_DAY_FIRST = re.compile(r"^(\d{1,2})(?:st|nd|rd|th|\.|er)?[ -]?(?:de |of )?([^\W\d]{3,10})\.?[ ,-]*(?:de )?(\d{4}|\d{2})$")
_MONTH_FIRST = re.compile(r"^([^\W\d]{3,10})\.? (\d{1,2})(?:st|nd|rd|th)?,? (\d{4})$")
_WEEKDAY = re.compile(r"^[^\W\d]{2,10},? (?=\d|[^\W\d]+ \d)")
_ANY_NUMERIC = re.compile(r"(?<![\d./-])(\d{1,2})([./-])(\d{1,2})\2(?:\d{4}|\d{2})(?![\d./-])")


def day_first(texts: Iterable[str], otherwise: bool | None = None) -> bool | None:
    """Whether this document prints the day before the month: True, False, or `otherwise` if unsaid.

    A dotted date is always day first; else dates with a part over 12 decide.
    """
    votes = 0
    for one, mark, two in _ANY_NUMERIC.findall("\n".join(texts)):
        first, second = int(one), int(two)
        if mark == "." or (first > 12 >= second):
            votes += 1
        elif second > 12 >= first:
            votes -= 1
    return otherwise if votes == 0 else votes > 0


def parse_date(text: str, first: bool | None = None) -> date | None:
    """The date that `text` is, or None. `first`: the day stands first in this document."""
    readings = date_readings(text)
    if not readings:
        return None
    if len(readings) == 1 or first is None or first:
        return readings[0]
    return readings[1]


def iso_day(value: Any) -> date | None:
    """The date of a text that begins as RFC 3339 writes one (full-date); None for anything else."""
    try:
        return date.fromisoformat(value[:10]) if isinstance(value, str) else None
    except ValueError:
        return None


@lru_cache(maxsize=8192)
def date_readings(text: str) -> tuple[date, ...]:
    """All dates that `text` may be: none, one, or two (day first, then month first)."""
    body = " ".join(text.split()).strip(" ,;:()").rstrip(".").strip(" ,;:()")
    if not 6 <= len(body) <= 30 or not any(c.isdecimal() for c in body):
        return ()
    if match := _ISO.match(body):
        return _made(int(match[1]), int(match[3]), int(match[4]))
    if match := _NUMERIC.match(body):
        year, one, two = _year(match[4]), int(match[1]), int(match[3])
        readings = _made(year, two, one)
        if match[2] != "." and one != two:
            readings += _made(year, one, two)
        return readings
    return _in_words(body) or _in_words(_WEEKDAY.sub("", body))


def _in_words(body: str) -> tuple[date, ...]:
    if match := _DAY_FIRST.match(body):
        return _made(_year(match[3]), MONTHS.get(fold(match[2]), 0), int(match[1]))
    if match := _MONTH_FIRST.match(body):
        return _made(_year(match[3]), MONTHS.get(fold(match[1]), 0), int(match[2]))
    return ()


def _year(digits: str) -> int:
    """Two digits are of this century (invoices are not older)."""
    return int(digits) if len(digits) == 4 else 2000 + int(digits)


def _made(year: int, month: int, day: int) -> tuple[date, ...]:
    if not 1900 <= year <= 2200:
        return ()
    try:
        return (date(year, month, day),)
    except ValueError:
        return ()
