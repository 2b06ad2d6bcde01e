"""Times of day, and moments with their zone (RFC 3339)."""

from __future__ import annotations

import re
from datetime import date, datetime, time
from functools import lru_cache

from metrikon.core.values.dates import parse_date

_CLOCK = re.compile(
    r"^(?P<hour>\d{1,2})(?:[:.h](?P<minute>\d{2}))?(?:[:.](?P<second>\d{2}))?\s*(?P<half>a\.?m\.?|p\.?m\.?)?\s*(?:uhr|hrs?|o'clock)?$", re.IGNORECASE
)
_ZONE = re.compile(r"\s*(?P<zone>Z|UTC|GMT|(?:UTC|GMT)?[+-]\d{1,2}(?::?\d{2})?|CET|CEST|BST|MEZ|MESZ)$", re.IGNORECASE)
_NAMED = {"z": "Z", "utc": "Z", "gmt": "Z", "cet": "+01:00", "mez": "+01:00", "cest": "+02:00", "mesz": "+02:00", "bst": "+01:00"}


@lru_cache(maxsize=2048)
def parse_time(text: str) -> time | None:
    """The time of day that `text` is, or None: "14:30", "2.30 pm", "14h30", "9 Uhr"."""
    body = text.strip().strip(".,;")
    if not 1 <= len(body) <= 24:
        return None
    match = _CLOCK.match(body)
    if not match or (match["minute"] is None and match["half"] is None and "uhr" not in body.lower() and "clock" not in body.lower()):
        return None
    hour, half = int(match["hour"]), (match["half"] or "").replace(".", "").lower()
    if half and not 1 <= hour <= 12:
        return None
    hour = hour % 12 + (12 if half == "pm" else 0) if half else hour
    try:
        return time(hour, int(match["minute"] or 0), int(match["second"] or 0))
    except ValueError:
        return None


def parse_moment(text: str, first: bool | None = None, zone: str | None = None) -> str | None:
    """A date with its time as RFC 3339, or None. `zone`: that of the document, where the text names none; without one none is written."""
    body = " ".join(text.split()).strip(" .,;")
    if len(body) > 60:
        return None
    try:
        exact = datetime.fromisoformat(body.replace("Z", "+00:00").replace("z", "+00:00")) if len(body) > 10 else None
    except ValueError:
        exact = None
    if exact is not None:
        return _written(exact.date(), exact.time(), _offset(exact) or zone)
    named = _ZONE.search(body)
    zone = _zone(named["zone"]) if named else zone
    body = body[: named.start()] if named else body
    for at in (found.start() for found in re.finditer(r"[ ,T]", body)):
        day, clock = (
            parse_date(body[:at].strip(" ,"), first),
            parse_time(re.sub(r"^(?:at|um|à|om)\s+", "", body[at:].strip(" ,T"), flags=re.IGNORECASE)),
        )
        if day and clock:
            return _written(day, clock, zone)
    return None


def _offset(moment: datetime) -> str | None:
    if moment.tzinfo is None:
        return None
    text = moment.strftime("%z")
    return "Z" if text in ("+0000", "-0000") else f"{text[:3]}:{text[3:5]}"


def _zone(name: str) -> str:
    known = _NAMED.get(name.lower())
    if known:
        return known
    match = re.search(r"([+-])(\d{1,2}):?(\d{2})?$", name)
    assert match
    return f"{match[1]}{int(match[2]):02}:{match[3] or '00'}"


def _written(day: date, clock: time, zone: str | None) -> str:
    return f"{day.isoformat()}T{clock.isoformat()}{zone or ''}"
