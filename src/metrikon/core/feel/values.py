"""Values of the language: what kind each is of, when two are equal, which comes first, how each is written.

Numbers are `Decimal`; text, yes/no, null, lists and contexts are Python's; dates, times, and dates with times are those of `datetime`, a zone by
name as `zoneinfo.ZoneInfo`; a days and time duration is a `timedelta`. The rest is here.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

from metrikon.core.feel.numbers import shown
from metrikon.core.feel.running import Running


@dataclass(frozen=True, order=True)
class Months:
    """A years and months duration."""

    months: int


@dataclass(frozen=True)
class Range:
    """All values from one to another; an end that is None has no limit."""

    low: Any
    high: Any
    low_open: bool = False
    high_open: bool = False

    def holds(self, value: Any) -> bool | None:
        """Whether a value lies in it; None where they cannot be compared."""
        above = True if self.low is None else compared(">" if self.low_open else ">=", value, self.low)
        below = True if self.high is None else compared("<" if self.high_open else "<=", value, self.high)
        if above is False or below is False:
            return False
        return None if above is None or below is None else True


@dataclass(frozen=True)
class Function:
    """A function defined in an expression: its parameters with their types, and what it does with a value for each."""

    parameters: tuple[str, ...]
    call: Callable[[list[Any]], Any]
    types: tuple[str | None, ...] = ()


def kind_of(value: Any) -> str:
    """The name of the type of a value, as the standard has it."""
    known = _KINDS.get(type(value))
    if known is not None:
        return known
    return "context" if isinstance(value, Mapping) else "number" if isinstance(value, int) else "other"


_KINDS: dict[type, str] = {
    type(None): "Null",
    bool: "boolean",
    Decimal: "number",
    str: "string",
    date: "date",
    datetime: "date and time",
    time: "time",
    timedelta: "days and time duration",
    Months: "years and months duration",
    list: "list",
    dict: "context",
    Range: "range",
    Function: "function",
}
ORDERED = ("number", "string", "date", "date and time", "time", "days and time duration", "years and months duration")


def native(value: Any) -> Any:
    """A value as the language knows it: whole numbers become `Decimal`, those of a list too. What is within its elements becomes so when they are."""
    if isinstance(value, list):
        return [_number(each) for each in value] if any(isinstance(each, int) for each in value) else value
    return _number(value)


def _number(value: Any) -> Any:
    return Decimal(value) if isinstance(value, int) and not isinstance(value, bool) else value


def equal(left: Any, right: Any, running: Running | None = None) -> bool | None:
    """Whether two values are equal; None where they are of different kinds (10.3.2.13). Raises `FeelError` for values that are too large."""
    if left is None or right is None:
        return left is right
    kind = kind_of(left)
    if kind != kind_of(right):
        return None
    if kind in ("list", "context"):
        counted = running or Running()
        counted.step(len(left) + 1)
        if kind == "list":
            return len(left) == len(right) and all(equal(one, two, counted) is True for one, two in zip(left, right, strict=True))
        return left.keys() == right.keys() and all(equal(value, right[name], counted) is True for name, value in left.items())
    if kind == "range":
        same = left.low_open is right.low_open and left.high_open is right.high_open
        return same and equal(left.low, right.low) is True and equal(left.high, right.high) is True
    if kind == "time":
        one, two = seconds_of(left), seconds_of(right)
        return one == two if _same_footing(left, right) else None
    if kind == "date and time" and not _same_footing(left, right):
        return None
    return bool(left == right)


def compared(sign: str, left: Any, right: Any, running: Running | None = None) -> bool | None:
    """Whether a comparison holds; None where two values cannot be compared."""
    if sign == "=":
        return equal(left, right, running)
    if sign == "!=":
        same = equal(left, right, running)
        return None if same is None else not same
    kind = kind_of(left)
    if kind != kind_of(right) or kind not in ORDERED:
        return None
    if kind in ("time", "date and time"):
        if not _same_footing(left, right):
            return None
        if kind == "time":
            left, right = seconds_of(left), seconds_of(right)
    return bool(_SIGNS[sign](left, right))


_SIGNS: dict[str, Callable[[Any, Any], Any]] = {
    "<": lambda one, two: one < two,
    "<=": lambda one, two: one <= two,
    ">": lambda one, two: one > two,
    ">=": lambda one, two: one >= two,
}


def _same_footing(left: time | datetime, right: time | datetime) -> bool:
    """Whether both know their zone, or neither does."""
    return (left.tzinfo is None) is (right.tzinfo is None)


def seconds_of(value: time) -> Decimal:
    """Seconds since midnight, in UTC where the offset is known."""
    offset = value.utcoffset()
    seconds = value.hour * 3600 + value.minute * 60 + value.second - (int(offset.total_seconds()) if offset is not None else 0)
    return Decimal(seconds) + Decimal(value.microsecond) / 1_000_000


def text_of(value: Any, running: Running | None = None) -> str | None:
    """A value as `string` writes it; None for null. Raises `FeelError` for one that is too large."""
    if value is None or isinstance(value, str):
        return value
    return _written(value, running or Running())


def _written(value: Any, running: Running) -> str:
    running.make(1)
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, Decimal | int):
        return shown(Decimal(value))
    if isinstance(value, str):
        running.make(len(value))
        return '"' + value.replace("\\", "\\\\").replace('"', '\\"') + '"'
    if isinstance(value, date | time):
        return _moment(value)
    if isinstance(value, timedelta):
        return _days(value)
    if isinstance(value, Months):
        return _months(value)
    if isinstance(value, list):
        return f"[{', '.join([_written(each, running) for each in value])}]"
    if isinstance(value, Mapping):
        return "{" + ", ".join([f"{name}: {_written(each, running)}" for name, each in value.items()]) + "}"
    if isinstance(value, Range):
        low, high = ("" if each is None else _written(each, running) for each in (value.low, value.high))
        return f"{'(' if value.low_open else '['}{low}..{high}{')' if value.high_open else ']'}"
    return "null" if value is None else "function"


def _moment(value: date | time) -> str:
    if not isinstance(value, datetime | time):
        return value.isoformat()
    zone, bare = value.tzinfo, value.replace(tzinfo=None)
    text = bare.isoformat()
    text = text.rstrip("0") if bare.microsecond else text
    if isinstance(zone, ZoneInfo):
        return f"{text}@{zone.key}"
    offset = value.utcoffset()
    if offset is None:
        return text
    whole = int(offset.total_seconds())
    sign, whole = ("-" if whole < 0 else "+"), abs(whole)
    return text + ("Z" if not whole else f"{sign}{whole // 3600:02}:{whole // 60 % 60:02}" + (f":{whole % 60:02}" if whole % 60 else ""))


def _days(value: timedelta) -> str:
    left = abs(value)
    hours, minutes, seconds = left.seconds // 3600, left.seconds // 60 % 60, Decimal(left.seconds % 60) + Decimal(left.microseconds) / 1_000_000
    days = f"{left.days}D" if left.days else ""
    shown_seconds = f"{seconds.normalize():f}S" if seconds else ""
    rest = (f"{hours}H" if hours else "") + (f"{minutes}M" if minutes else "") + shown_seconds
    return f"{'-' if value < timedelta(0) else ''}P{days}{'T' + rest if rest else ''}" if days or rest else "PT0S"


def _months(value: Months) -> str:
    years, months = divmod(abs(value.months), 12)
    sign = "-" if value.months < 0 else ""
    return f"{sign}P{f'{years}Y' if years else ''}{f'{months}M' if months else ''}" if years or months else "P0M"


_AS_THEY_ARE = frozenset({type(None), str, bool, Decimal, int})


def plain(value: Any, running: Running | None = None) -> Any:
    """A value as it is kept in JSON: dates, times, durations and ranges as the texts they are written as; a function as null.

    Raises `FeelError` for one that is too large.
    """
    if value is None or isinstance(value, str | bool | Decimal | int):
        return value
    if isinstance(value, list | Mapping):
        counted = running or Running()
        counted.make(len(value) + 1)
        if isinstance(value, list):
            return [each if type(each) in _AS_THEY_ARE else plain(each, counted) for each in value]
        return {str(name): plain(each, counted) for name, each in value.items()}
    return None if isinstance(value, Function) else _written(value, running or Running())
