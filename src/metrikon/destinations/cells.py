"""Values on their way into cells and columns."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from typing import Any

from metrikon.core.values.exact import dumps

LONGEST_TEXT = 32_767  # characters a cell of a workbook holds


def cell_value(value: Any) -> Any:
    """A value as a cell holds it: numbers, yes/no and texts; dates stay dates, lists and contexts are JSON."""
    if value is None or isinstance(value, bool | int | Decimal):
        return value
    if isinstance(value, str):
        return as_date(value) or printable(value)
    if isinstance(value, dict | list):
        return printable(dumps(value).decode())
    return printable(str(value))


def as_date(text: str) -> date | None:
    """A date from its ISO form, exactly; anything else is None."""
    if len(text) != 10 or text[4] != "-" or text[7] != "-":
        return None
    try:
        return date.fromisoformat(text)
    except ValueError:
        return None


def printable(text: str) -> str:
    """Text without control characters, at most as long as a cell allows."""
    return without_controls(text)[:LONGEST_TEXT]


def without_controls(text: str) -> str:
    """Text without control characters."""
    return text if text.isprintable() else "".join(c for c in text if c in "\t\n" or ord(c) >= 32)


def same(found: Any, wanted: Any) -> bool:
    """Whether what was found is what is wanted: numbers by their size, texts letter by letter."""
    if isinstance(found, int | Decimal) and isinstance(wanted, int | Decimal) and not isinstance(found, bool):
        return Decimal(found) == Decimal(wanted)
    return found == wanted or (found is not None and wanted is not None and str(found) == str(wanted))


def digits(value: int | Decimal) -> str:
    """A number as it is written, every digit of it."""
    return f"{value:f}" if isinstance(value, Decimal) else str(value)


def longer_than_a_cell(text: str) -> bool:
    """Whether a text is longer than a cell of a workbook holds."""
    return len(text) > LONGEST_TEXT
