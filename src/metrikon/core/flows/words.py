"""Parameters in words."""

from __future__ import annotations

import re
from decimal import Decimal
from typing import Any

from metrikon.core.feel import BadExpression
from metrikon.core.feel.holes import Hole, holes


def told_duration(duration: Any) -> str:
    """A duration as people read it: P1DT12H as "1 day, 12 hours", 90 as "90 seconds"."""
    if not isinstance(duration, str):
        return _counted(f"{duration:f}" if isinstance(duration, Decimal) else f"{duration:g}", "second")
    date, _, time = duration.removeprefix("P").partition("T")
    found = [*((count, _DAYS[unit]) for count, unit in _PART.findall(date)), *((count, _HOURS[unit]) for count, unit in _PART.findall(time))]
    return ", ".join(_counted(count, unit) for count, unit in found) or duration


def _counted(count: str, unit: str) -> str:
    return f"{count} {unit}{'' if count == '1' else 's'}"


_PART = re.compile(r"(\d+(?:\.\d+)?)([YMWDHS])")
_DAYS = {"Y": "year", "M": "month", "W": "week", "D": "day", "H": "hour", "S": "second"}
_HOURS = {"H": "hour", "M": "minute", "S": "second", "Y": "year", "W": "week", "D": "day"}


def shown(value: Any) -> str:
    """A parameter as people read it: holes as what stands in them, texts as they are."""
    if isinstance(value, str):
        try:
            return "".join(part.expression if isinstance(part, Hole) else part for part in holes(value))
        except BadExpression:
            return value
    if isinstance(value, list):
        return ", ".join(shown(each) for each in value)
    if isinstance(value, dict):
        return ", ".join(f"{name} {shown(each)}" for name, each in value.items())
    return {True: "yes", False: "no", None: "nothing"}.get(value, str(value)) if value is None or isinstance(value, bool) else str(value)
