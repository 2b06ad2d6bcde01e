"""Values on their way into cells and columns."""

from __future__ import annotations

import re
from datetime import date, datetime
from decimal import Decimal
from typing import Any
from urllib.parse import unquote

from metrikon.core.values.exact import dumps

LONGEST_TEXT = 32_767  # characters a cell of a workbook holds
LONGEST_LINK = 250  # and those that a link in one has


class Link(str):
    """A text in a cell that leads somewhere: to a file beside the sheet, or to a page."""

    place: str

    def __new__(cls, text: str, place: str) -> Link:
        made = super().__new__(cls, text)
        made.place = place
        return made


def cell_value(value: Any) -> Any:
    """A value as a cell holds it: numbers, yes/no and texts; dates stay dates, `{link: …, text: …}` is a link, other contexts and lists are JSON."""
    if value is None or isinstance(value, bool | int | Decimal):
        return value
    if isinstance(value, str):
        return as_date(value) or as_moment(value) or printable(value)
    if isinstance(value, dict) and isinstance(value.get("link"), str) and value.keys() <= {"link", "text"}:
        return _link(value["link"], str(value.get("text") or value["link"]))
    if isinstance(value, dict | list):
        return printable(dumps(value).decode())
    return printable(str(value))


def _link(place: str, text: str) -> str:
    """A link to a page or a file; the text alone where it leads elsewhere, or is longer than a workbook takes."""
    place, text = printable(place).strip(), printable(text)
    bare = re.sub(r"[\s\x00-\x20\u200b-\u200f\u2028\u2029\ufeff]", "", place)  # programs that follow links leave these out
    scheme, colon, _ = re.split(r"[/?#]", unquote(bare), maxsplit=1)[0].partition(":")
    elsewhere = bare.replace("\\", "/").startswith("//")  # the share of a server
    known = not elsewhere and (not colon or scheme.lower() in ("http", "https", "mailto")) and bare == place.replace(" ", "")
    return Link(text, place) if place and known and max(len(place), len(text)) <= LONGEST_LINK else text


def as_date(text: str) -> date | None:
    """A date from its ISO form, exactly; anything else is None."""
    if len(text) != 10 or text[4] != "-" or text[7] != "-":
        return None
    try:
        return date.fromisoformat(text)
    except ValueError:
        return None


def as_moment(text: str) -> datetime | None:
    """A date with a time from its ISO form, to the second; anything else is None."""
    if len(text) < 16 or text[10] not in "T " or not text[:4].isdecimal() or len(text) > 40:
        return None
    try:
        return datetime.fromisoformat(text).replace(microsecond=0)
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
    if isinstance(wanted, Link) and found == wanted.place:
        return True
    if isinstance(found, str) and isinstance(wanted, str) and (one := as_moment(found)) and (other := as_moment(wanted)):
        return one == other if one.tzinfo and other.tzinfo else one.replace(tzinfo=None) == other.replace(tzinfo=None)  # a cell knows no zone
    return found == wanted or (found is not None and wanted is not None and str(found) == str(wanted))


def digits(value: int | Decimal) -> str:
    """A number as it is written, every digit of it."""
    return f"{value:f}" if isinstance(value, Decimal) else str(value)


def longer_than_a_cell(text: str) -> bool:
    """Whether a text is longer than a cell of a workbook holds."""
    return len(text) > LONGEST_TEXT
