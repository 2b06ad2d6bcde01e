"""Dates, times and durations: how they are written (ISO 8601, XML Schema 1.1), what they hold, and their arithmetic (DMN 1.5, 10.3.2.3, 10.3.2.5)."""

from __future__ import annotations

import re
from calendar import monthrange
from datetime import UTC, date, datetime, time, timedelta, timezone, tzinfo
from decimal import Decimal
from functools import lru_cache
from typing import Any
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from metrikon.core.feel.values import Months, Range, seconds_of

_DATE = re.compile(r"(\d{4})-(\d\d)-(\d\d)")
_TIME = re.compile(r"(\d\d):(\d\d):(\d\d)(\.\d{1,9})?(Z|[+-]\d\d:\d\d(?::\d\d)?|@[A-Za-z0-9_+/-]{1,60})?")
_DAYS = re.compile(r"(-)?P(?:(\d{1,10})D)?(?:T(?:(\d{1,12})H)?(?:(\d{1,12})M)?(?:(\d{1,12})(\.\d{1,9})?S)?)?")
_MONTHS = re.compile(r"(-)?P(?:(\d{1,9})Y)?(?:(\d{1,9})M)?")
MOST_OFFSET = timedelta(hours=14)


def date_from(text: str) -> date | None:
    """A date such as 2026-05-01; None for another text."""
    match = _DATE.fullmatch(text)
    try:
        return date(*(int(part) for part in match.groups())) if match else None
    except ValueError:
        return None


def time_from(text: str) -> time | None:
    """A time such as 14:30:00, 14:30:00Z, 14:30:00+02:00 or 14:30:00@Europe/Vienna."""
    match = _TIME.fullmatch(text)
    if not match:
        return None
    hour, minute, second, fraction, zone = match.groups()
    known = zone_from(zone)
    if zone and known is None:
        return None
    try:
        return time(int(hour), int(minute), int(second), _micro(fraction), known)
    except ValueError:
        return None


def _micro(fraction: str | None) -> int:
    return int((fraction or ".")[1:].ljust(6, "0")[:6])


def zone_from(text: str | None) -> tzinfo | None:
    """A zone from Z, an offset, or @ with a name of the IANA database."""
    if not text:
        return None
    if text == "Z":
        return UTC
    if text.startswith("@"):
        return named_zone(text[1:])
    parts = [int(part) for part in text[1:].split(":")]
    offset = timedelta(hours=parts[0], minutes=parts[1], seconds=parts[2] if len(parts) > 2 else 0)
    if offset > MOST_OFFSET or parts[1] > 59:
        return None
    return fixed(-offset if text[0] == "-" else offset)


def fixed(offset: timedelta) -> tzinfo | None:
    """A zone that is always so far from UTC; None beyond 14 hours."""
    if abs(offset) > MOST_OFFSET:
        return None
    return UTC if not offset else timezone(offset)


@lru_cache(maxsize=700)
def named_zone(name: str) -> ZoneInfo | None:
    """A zone of the IANA database; None when there is none of that name."""
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        return None


def moment_from(text: str) -> datetime | None:
    """A date and time such as 2026-05-01T14:30:00+02:00; a date alone is its midnight."""
    day, mark, clock = text.partition("T")
    found = date_from(day)
    if found is None:
        return None
    at = time_from(clock) if mark else time(0)
    return datetime.combine(found, at) if at is not None else None


def duration_from(text: str) -> timedelta | Months | None:
    """A duration such as P3D, PT4H30M, -P1Y6M."""
    match = _MONTHS.fullmatch(text)
    if match and (match[2] or match[3]):
        months = int(match[2] or 0) * 12 + int(match[3] or 0)
        return Months(-months if match[1] else months)
    match = _DAYS.fullmatch(text)
    if not match or not any(match.groups()[1:]) or text.endswith("T"):
        return None
    try:
        whole = timedelta(days=int(match[2] or 0), hours=int(match[3] or 0), minutes=int(match[4] or 0), seconds=int(match[5] or 0))
        whole += timedelta(microseconds=_micro(match[6]))
    except OverflowError:
        return None
    return -whole if match[1] else whole


def literal(text: str) -> date | time | timedelta | Months | None:
    """What stands after an @: a date, a time, a date and time, or a duration."""
    found = date_from(text) or (moment_from(text) if "T" in text and not text.lstrip("-").startswith("P") else None)
    if found is not None:
        return found
    at = time_from(text)
    return at if at is not None else duration_from(text)


def property_of(value: Any, name: str) -> Any:
    """A property of a date, time, duration or range; None where it has none of that name (Table 65)."""
    if isinstance(value, date) and name in ("year", "month", "day", "weekday"):
        return Decimal(value.isoweekday() if name == "weekday" else getattr(value, name))
    if isinstance(value, datetime | time):
        if name in ("hour", "minute"):
            return Decimal(getattr(value, name))
        if name == "second":
            return Decimal(value.second) + Decimal(value.microsecond) / 1_000_000 if value.microsecond else Decimal(value.second)
        if name in ("time offset", "time_offset"):
            return value.utcoffset()
        if name == "timezone":
            return value.tzinfo.key if isinstance(value.tzinfo, ZoneInfo) else None
    if isinstance(value, timedelta) and name in ("days", "hours", "minutes", "seconds"):
        whole = abs(value)
        found = {"days": whole.days, "hours": whole.seconds // 3600, "minutes": whole.seconds // 60 % 60, "seconds": whole.seconds % 60}[name]
        exact = Decimal(found) + (Decimal(whole.microseconds) / 1_000_000 if name == "seconds" and whole.microseconds else 0)
        return -exact if value < timedelta(0) and exact else exact
    if isinstance(value, Months) and name in ("years", "months"):
        years, months = divmod(abs(value.months), 12)
        found = years if name == "years" else months
        return Decimal(-found if value.months < 0 else found)
    if isinstance(value, Range):
        ends = {"start": value.low, "end": value.high, "start included": not value.low_open, "end included": not value.high_open}
        return ends.get(name.replace("_", " "))
    return None


def added(left: Any, right: Any) -> Any:
    """A date or time with a duration added, or two durations of one kind; None for what cannot be added."""
    if isinstance(left, timedelta | Months) and isinstance(right, date | time):
        left, right = right, left
    try:
        if isinstance(right, Months):
            if isinstance(left, Months):
                return Months(left.months + right.months)
            return _months_later(left, right.months) if isinstance(left, date) else None
        if isinstance(right, timedelta):
            if isinstance(left, timedelta):
                return left + right
            if isinstance(left, datetime):
                return _later(left, right)
            if isinstance(left, date):
                return left + timedelta(days=(timedelta(0) + right) // timedelta(days=1))
            if isinstance(left, time):
                return (datetime.combine(date(2000, 6, 15), left.replace(tzinfo=None)) + right % timedelta(days=1)).time().replace(tzinfo=left.tzinfo)
    except (OverflowError, ValueError):
        return None
    return None


def _later(moment: datetime, duration: timedelta) -> datetime:
    """So much time later; in a zone by name what its clock then shows."""
    if isinstance(moment.tzinfo, ZoneInfo):
        return (moment.astimezone(UTC) + duration).astimezone(moment.tzinfo)
    return moment + duration


def _months_later(day: date, months: int) -> date:
    year, month = divmod(day.year * 12 + day.month - 1 + months, 12)
    return day.replace(year=year, month=month + 1, day=min(day.day, monthrange(year, month + 1)[1]))


def subtracted(left: Any, right: Any) -> Any:
    """The duration between two dates or times, or a date, time or duration less a duration; None for what cannot be subtracted."""
    if isinstance(right, timedelta):
        return added(left, -right) if isinstance(left, date | time | timedelta) else None
    if isinstance(right, Months):
        return added(left, Months(-right.months)) if isinstance(left, date | Months) else None
    if isinstance(left, time) and isinstance(right, time):
        if (left.tzinfo is None) is not (right.tzinfo is None):
            return None
        return timedelta(microseconds=int((seconds_of(left) - seconds_of(right)) * 1_000_000))
    if isinstance(left, datetime) or isinstance(right, datetime):
        one, two = _at_midnight(left), _at_midnight(right)
        if one is None or two is None:
            return None
        if isinstance(left, datetime) is not isinstance(right, datetime):  # a date beside a date and time is its midnight in UTC
            one, two = (each if each.tzinfo else each.replace(tzinfo=UTC) for each in (one, two))
        return one - two if (one.tzinfo is None) is (two.tzinfo is None) else None
    if isinstance(left, date) and isinstance(right, date):
        return left - right
    return None


def _at_midnight(value: Any) -> datetime | None:
    if isinstance(value, datetime):
        return value
    return datetime(value.year, value.month, value.day) if isinstance(value, date) else None


def multiplied(duration: timedelta | Months, number: Decimal) -> timedelta | Months | None:
    """A duration so many times; None beyond all bounds."""
    try:
        if isinstance(duration, Months):
            return Months(int(Decimal(duration.months) * number))
        whole = Decimal(duration // timedelta(microseconds=1)) * number
        return timedelta(microseconds=int(whole))
    except (OverflowError, ArithmeticError):
        return None


def divided(duration: timedelta | Months, by: Any) -> Any:
    """A duration parted, or how many times another of its kind goes into it; None for a division by nothing."""
    if isinstance(by, Decimal):
        return _parted(duration, by)
    if isinstance(duration, Months) and isinstance(by, Months):
        return Decimal(duration.months) / Decimal(by.months) if by.months else None
    if isinstance(duration, timedelta) and isinstance(by, timedelta):
        unit = timedelta(microseconds=1)
        return Decimal(duration // unit) / Decimal(by // unit) if by else None
    return None


def _parted(duration: timedelta | Months, by: Decimal) -> timedelta | Months | None:
    if not by:
        return None
    try:
        if isinstance(duration, Months):
            return Months(int(Decimal(duration.months) / by))
        return timedelta(microseconds=int(Decimal(duration // timedelta(microseconds=1)) / by))
    except (OverflowError, ArithmeticError):
        return None


def months_between(first: date, then: date) -> Months:
    """Whole years and months from one date to another (`years and months duration`)."""
    sign = 1 if (then.year, then.month, then.day) >= (first.year, first.month, first.day) else -1
    early, late = (first, then) if sign > 0 else (then, first)
    months = (late.year - early.year) * 12 + late.month - early.month - (late.day < early.day)
    return Months(sign * months)
