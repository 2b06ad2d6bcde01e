"""What the columns of a table hold: "number", "date", "yes/no" or "text"."""

from __future__ import annotations

from collections.abc import Sequence

from metrikon.core.values.dates import date_readings
from metrikon.core.values.numbers import parse_number

_ANSWERS = {"yes", "no", "true", "false", "ja", "nein", "oui", "non", "x", "✓"}
LOOKED_AT = 400  # rows


def column_types(rows: Sequence[Sequence[str]]) -> tuple[str, ...]:
    """The type of each column: what at least nine in ten of its filled cells are."""
    columns = max((len(row) for row in rows), default=0)
    return tuple(_type([row[n] for row in rows[:LOOKED_AT] if n < len(row) and row[n]]) for n in range(columns))


def _type(texts: Sequence[str]) -> str:
    if not texts:
        return "text"
    enough = 0.9 * len(texts)
    if sum(text.casefold() in _ANSWERS for text in texts) >= enough:
        return "yes/no"
    if sum(parse_number(text) is not None for text in texts) >= enough:
        return "number"
    return "date" if sum(bool(date_readings(text)) for text in texts) >= enough else "text"


def header_row(rows: Sequence[Sequence[str]]) -> bool:
    """Whether the first of these rows names the columns: all filled and apart, no figures, over rows that hold some."""
    if len(rows) < 2 or not all(cell.strip() for cell in rows[0]):
        return False
    head = [cell.strip().casefold() for cell in rows[0]]
    plain = all(parse_number(cell) is None and not date_readings(cell) for cell in head)
    types = column_types(rows[1:])
    longer = any(len(cell) > 40 for cell in rows[0])
    return plain and len(set(head)) == len(head) and not longer and (any(kind != "text" for kind in types) or len(rows) > 2)
