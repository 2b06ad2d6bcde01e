"""Values as they are found in cells and columns."""

from __future__ import annotations

from datetime import date, datetime
from decimal import Decimal
from typing import Any


def found_in(value: Any) -> Any:
    """A value of a cell or column as flows know it: exact numbers, dates as texts."""
    if isinstance(value, float):
        return Decimal(repr(value)) if value == value and abs(value) != float("inf") else None
    if isinstance(value, datetime):
        return value.date().isoformat() if value.time() == datetime.min.time() else value.isoformat()
    return value.isoformat() if isinstance(value, date) else value
