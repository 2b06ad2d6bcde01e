"""Times of day that are printed as bare hours: "9–12", "de 10 a 13 h", "a las 8 h", "from 5 pm"."""

from __future__ import annotations

import re
from typing import Any

from metrikon.core.extraction.indexing.index import Index, Place
from metrikon.core.extraction.indexing.placed import evidence_at
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.types import Field

SURE = 0.75  # a bare number that a span or a word makes an hour
_HOUR = r"(\d{1,2})(?:[:.,h](\d{2}))?\s?(?:h|u|uhr|hod|godz|[ap]\.?m\.?)?\.?"
_TO = r"\s*(?:[-–—/]|to|till|until|bis|à|a|al|ao|até|hasta|alle|tot|til|till|do|kl\.?)\s*"
_SPAN = re.compile(rf"(?<![\d.,]){_HOUR}{_TO}{_HOUR}(?![\d,%€$£])", re.IGNORECASE)
_NAMED = re.compile(
    r"(?:\b(?:at|um|à|a las?|alle?|om|kl\.?|klo|às|o|v|os|from|ab|von|dès|desde|dalle|vanaf|fra|från|od|until|bis|hasta|tot|till|do|about|around|gegen|circa|ca\.?|vers|hacia|verso|rond|omstreeks|około|okolo|kolem|mellan|między|mezi|entre|tra|fra)\s+)"
    r"(\d{1,2})(?:[:.,h](\d{2}))?\s?(?P<half>[ap]\.?m\.?)?|(?<![\d.,])(\d{1,2})(?:[:.,h](\d{2}))?\s?(?:h|uhr|uur|hod|godz|(?P<late>[ap]\.?m\.?))(?![\w])",
    re.IGNORECASE,
)


def an_hour(field: Field, value: Any, index: Index) -> Evidence | None:
    """A time, or the time of a moment, that is printed as an hour."""
    if field.kind != "time" or not isinstance(value, str) or not re.fullmatch(r"\d\d:\d\d(?::00)?", value):
        return None
    place = hour_at(value[:5], index)
    return evidence_at(index, place, SURE, "mapped") if place else None


def hour_at(time: str, index: Index) -> Place | None:
    """Where a time of day (HH:MM) is printed as an hour; None where it is not."""
    return next(iter(hours_at(time, index)), None)


def hours_at(time: str, index: Index) -> list[Place]:
    """Every place where a time of day (HH:MM) is printed as an hour."""
    return index.once("bare hours", _hours).get(int(time[:2]) * 60 + int(time[3:5]), [])


def _hours(index: Index) -> dict[int, list[Place]]:
    """The places of each time that is printed as a bare hour, by its minutes."""
    found: dict[int, list[Place]] = {}
    for page in index.document.pages:
        for line in page.lines:
            place = Place(page.number, tuple(range(line.first, line.last)))
            for minutes in _read(line.text):
                found.setdefault(minutes, []).append(place)
    return found


def _read(text: str) -> set[int]:
    found: set[int] = set()
    for match in _SPAN.finditer(text):
        found |= _both_halves(match[1], match[2]) | _both_halves(match[3], match[4])
    for match in _NAMED.finditer(text):
        hour, minutes = match[1] or match[4], match[2] or match[5]
        found |= _both_halves(hour, minutes)
    return found


def _both_halves(hour: str, minutes: str | None) -> set[int]:
    """An hour of the clock in both halves of the day, where it may be either."""
    first, least = int(hour), int(minutes or 0)
    if first > 24 or least > 59:
        return set()
    found = {(first % 24) * 60 + least}
    return found | {((first + 12) % 24) * 60 + least} if first <= 12 else found
