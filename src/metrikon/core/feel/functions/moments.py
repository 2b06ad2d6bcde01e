"""Functions of dates and times (10.3.4.6, 10.3.4.7, 10.3.4.11). `now` and `today` are those of the moment an expression is worked out at."""

from __future__ import annotations

from datetime import date, datetime
from decimal import Decimal
from typing import Any

from metrikon.core.feel.functions.declared import function
from metrikon.core.feel.running import Running
from metrikon.core.feel.temporal import months_between
from metrikon.core.feel.values import Months, equal, kind_of

_DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
_MONTHS = ("January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November", "December")


@function("now", running=True)
def _now(running: Running) -> datetime | None:
    return running.moment


@function("today", running=True)
def _today(running: Running) -> date | None:
    return running.moment.date() if running.moment is not None else None


@function("years and months duration", "from: day", "to: day")
def _between(first: date, then: date) -> Months:
    return months_between(first, then)


@function("day of year", "date: day")
def _day_of_year(date: date) -> Decimal:
    return Decimal(date.timetuple().tm_yday)


@function("day of week", "date: day")
def _day_of_week(date: date) -> str:
    return _DAYS[date.weekday()]


@function("month of year", "date: day")
def _month_of_year(date: date) -> str:
    return _MONTHS[date.month - 1]


@function("week of year", "date: day")
def _week_of_year(date: date) -> Decimal:
    """The week as ISO 8601 counts them."""
    return Decimal(date.isocalendar().week)


@function("is", "value1: any", "value2: any")
def _is(one: Any, two: Any) -> bool:
    """Whether two values are one and the same: of one kind, and dates and times with the same zone."""
    if kind_of(one) != kind_of(two) or equal(one, two) is not True:
        return False
    return getattr(one, "tzinfo", None) == getattr(two, "tzinfo", None)
