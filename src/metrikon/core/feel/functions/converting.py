"""From one kind of value to another (10.3.4.1)."""

from __future__ import annotations

import re
from datetime import UTC, date, datetime, time, timedelta, tzinfo
from decimal import Decimal
from typing import Any

from metrikon.core.feel.functions.declared import function, whole
from metrikon.core.feel.numbers import NoNumber, rounded
from metrikon.core.feel.running import Running
from metrikon.core.feel.temporal import date_from, duration_from, fixed, moment_from, named_zone, time_from
from metrikon.core.feel.values import text_of

_NUMBER = re.compile(r"-?(\d+(\.\d+)?|\.\d+)([eE][+-]?\d{1,4})?")


@function("string", "from: any", running=True)
def _string(running: Running, value: Any) -> Any:
    return text_of(value, running)


@function("number", "from: text", "grouping separator?: text", "decimal separator?: text")
def _number(text: str, grouping: str | None = None, decimal: str | None = None) -> Any:
    if grouping not in (None, " ", ",", ".") or decimal not in (None, ",", ".") or (grouping is not None and grouping == decimal):
        return None
    plain = text.replace(grouping, "") if grouping else text
    plain = plain.replace(decimal, ".") if decimal and decimal != "." else plain
    if not _NUMBER.fullmatch(plain):
        return None
    try:
        return rounded(Decimal(plain))
    except NoNumber:
        return None


@function("number", "from: number")
def _number_itself(number: Decimal) -> Any:
    return number


def _numbers(*values: Decimal) -> list[int] | None:
    found = [whole(each) for each in values]
    return None if any(each is None for each in found) else [each for each in found if each is not None]


@function("date", "from: text")
def _date(text: str) -> Any:
    return date_from(text)


@function("date", "from: day")
def _date_of(day: date) -> Any:
    return day.date() if isinstance(day, datetime) else day


@function("date", "year: number", "month: number", "day: number")
def _date_made(year: Decimal, month: Decimal, day: Decimal) -> Any:
    parts = _numbers(year, month, day)
    try:
        return date(*parts) if parts else None
    except ValueError:
        return None


@function("date and time", "from: text")
def _moment(text: str) -> Any:
    return moment_from(text)


@function("date and time", "from: day")
def _moment_of(day: date) -> Any:
    return day if isinstance(day, datetime) else datetime(day.year, day.month, day.day, tzinfo=UTC)


@function("date and time", "date: day", "time: time")
def _moment_made(day: date, time: time) -> Any:
    return datetime.combine(day.date() if isinstance(day, datetime) else day, time)


@function("date and time", "date: moment", "timezone: text")
def _moment_elsewhere(moment: datetime, timezone: str) -> Any:
    zone = named_zone(timezone)
    return moment.astimezone(zone) if zone is not None and moment.tzinfo is not None else None


_CLOCK = ("year: number", "month: number", "day: number", "hour: number", "minute: number", "second: number")


@function("date and time", *_CLOCK, "offset?: duration")
def _moment_of_parts(year: Any, month: Any, day: Any, hour: Any, minute: Any, second: Any, offset: timedelta | None = None) -> Any:
    found, at = _date_made(year, month, day), _time_made(hour, minute, second, offset)
    return datetime.combine(found, at) if found is not None and at is not None else None


@function("date and time", *_CLOCK, "timezone: text")
def _moment_in_zone(year: Any, month: Any, day: Any, hour: Any, minute: Any, second: Any, timezone: str) -> Any:
    found, zone = _moment_of_parts(year, month, day, hour, minute, second), named_zone(timezone)
    return found.replace(tzinfo=zone) if found is not None and zone is not None else None


@function("time", "from: text")
def _time(text: str) -> Any:
    return time_from(text)


@function("time", "from: time")
def _time_itself(time: time) -> Any:
    return time


@function("time", "from: day")
def _time_of(day: date) -> Any:
    return day.timetz() if isinstance(day, datetime) else time(0, tzinfo=UTC)


@function("time", "hour: number", "minute: number", "second: number", "offset?: duration")
def _time_made(hour: Decimal, minute: Decimal, second: Decimal, offset: timedelta | None = None) -> Any:
    parts = _numbers(hour, minute)
    zone: tzinfo | None = fixed(offset) if offset is not None else None
    if parts is None or (offset is not None and zone is None) or not 0 <= second < 60:
        return None
    try:
        return time(parts[0], parts[1], int(second), int(second % 1 * 1_000_000), zone)
    except ValueError:
        return None


@function("duration", "from: text")
def _duration(text: str) -> Any:
    return duration_from(text)


@function("duration", "from: duration")
@function("duration", "from: months")
def _duration_itself(value: Any) -> Any:
    return value
