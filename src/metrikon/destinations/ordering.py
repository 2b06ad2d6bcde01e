"""Rows of a sheet in a set order: which row stands where, and what becomes of formulas in rows that move."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from pydantic import Field

from metrikon.core.flows.form import Form
from metrikon.destinations.workbook import column_of, letters
from metrikon.ports.destination import Unusable

FIRST = 2  # the number of the first row beneath the heads
_MOMENT = re.compile(r"\d{4}-\d\d-\d\d(?:[T ][\d:.]+)?")  # ISO 8601
_TOKEN = re.compile(  # in a formula of SpreadsheetML (ECMA-376, 18.17): a text; a place of another sheet; a place or a range of this one
    r'(?P<text>"(?:[^"]|"")*")'
    r"|(?P<other>(?:'(?:[^']|'')*'|[\w.\[\]]+)!(?:\$?[A-Za-z]{1,3}\$?\d+(?::\$?[A-Za-z]{1,3}\$?\d+)?)?)"
    r"|(?<![\w.$'])(?P<left>\$?[A-Za-z]{1,3})(?P<fix>\$?)(?P<row>\d{1,7})(?::(?P<left2>\$?[A-Za-z]{1,3})(?P<fix2>\$?)(?P<row2>\d{1,7}))?(?![\w.(!])"
    r"|(?<![\w.$'])(?P<left3>)(?P<fix3>\$?)(?P<row3>\d{1,7}):(?P<fix4>\$?)(?P<row4>\d{1,7})(?![\w.(!])"
)
_OPEN = re.compile(  # the same in OpenFormula (ISO/IEC 26300-4, 5.8), where places stand in brackets
    r'(?P<text>"(?:[^"]|"")*")'
    r"|(?P<other>\[[^\].]+\.[^\]]*\])"
    r"|\[(?P<left>\.\$?[A-Z]{1,3})(?P<fix>\$?)(?P<row>\d{1,7})(?::(?P<left2>\.\$?[A-Z]{1,3})(?P<fix2>\$?)(?P<row2>\d{1,7}))?\]"
)


class SortBy(Form):
    """A column that rows are sorted by."""

    column: str = Field(..., min_length=1, max_length=200, description="The column.")
    descending: bool = Field(False, description="The largest or latest first.")


def in_order(by: Sequence[SortBy], rows: Mapping[int, Sequence[Any]], last: int) -> list[int] | None:
    """The numbers of the rows beneath the heads, up to the last, in the order that they are to stand in; None where they stand so already.

    `rows`: the values that each row is sorted by; empty rows are left out, and come last. Equal rows stay to each other as they are. What has no value in a
    column comes after what has one, however the column is sorted; numbers come before dates, and dates before texts.
    """
    numbers = list(range(FIRST, last + 1))
    wanted = [number for number in numbers if number in rows]
    for at in range(len(by) - 1, -1, -1):
        values = {number: _value(rows[number][at]) for number in wanted}
        some = [number for number in wanted if values[number] is not None]
        none = [number for number in wanted if values[number] is None]
        wanted = [*sorted(some, key=values.__getitem__, reverse=by[at].descending), *none]  # type: ignore[arg-type]
    wanted += [number for number in numbers if number not in rows]
    return wanted if wanted != numbers else None


def _value(value: Any) -> tuple[int, Any] | None:
    if value is None or value == "":
        return None
    if isinstance(value, bool | int | Decimal | float):
        number = Decimal(value)
        return (0, number) if number.is_finite() else (2, str(value).casefold())  # what is no number has no place among them
    text = value.isoformat() if hasattr(value, "isoformat") else str(value)
    return (1, text.replace(" ", "T")) if _MOMENT.fullmatch(text) else (2, text.casefold())


@dataclass(frozen=True)
class Move:
    """A row that moves: its number before and now, the last of the rows that move with it, and the sheet."""

    before: int
    now: int
    last: int
    sheet: str


def moved(formula: str, move: Move, place: str, *, opened: bool = False) -> str:
    """A formula of a row that has moved: what it says of its own row goes with it. Raises `Unusable` where it speaks of other rows that move, which would
    then be others than were meant; all of them together may be meant. `place`: the cell. `opened`: it is an OpenFormula."""
    before, now, last = move.before, move.now, move.last

    def refuse(what: str) -> Unusable:
        return Unusable(
            f"The formula in {place} speaks of other rows ({what}), and would mean others once the rows are sorted. Put sums on another sheet or above the "
            "rows, or take `sorted_by` out of the flow."
        )

    def one(found: re.Match[str]) -> str:
        if found["text"] is not None:
            return found[0]
        if found["other"] is not None:
            if _sheet(found["other"], opened) == move.sheet.casefold():
                raise refuse(found[0])
            return found[0]
        if not opened and found["row3"] is not None:  # whole rows
            ends = [(found["fix3"], int(found["row3"])), (found["fix4"], int(found["row4"]))]
        else:
            ends = [(found["fix"], int(found["row"])), *([(found["fix2"], int(found["row2"]))] if found["row2"] else [])]
        if all(not fixed and row == before for fixed, row in ends):
            return re.sub(rf"(?<!\d){before}(?!\d)", str(now), found[0])
        low, high = min(row for _, row in ends), max(row for _, row in ends)
        if high < FIRST or low > last or (low <= FIRST and high >= last and all(fixed for fixed, _ in ends)):
            return found[0]
        raise refuse(found[0])

    return (_OPEN if opened else _TOKEN).sub(one, formula)


def _sheet(place: str, opened: bool) -> str:
    """The sheet that a place names."""
    name = place[1:].rpartition(".")[0].partition(":")[0] if opened else place.rpartition("!")[0]
    return name.strip("$").strip("'").replace("''", "'").casefold()


def copied(formula: str, down: int, right: int) -> str:
    """A formula as it stands in another cell that shares it (ECMA-376, 18.3.1.40): so many rows down and columns to the right."""

    def place(left: str, fixed: str, row: int) -> str:
        column = left if left.startswith("$") else letters(column_of(left) + right)
        return f"{column}{fixed}{row if fixed else row + down}"

    def one(found: re.Match[str]) -> str:
        if found["text"] is not None:
            return found[0]
        if found["other"] is not None:
            sheet, mark, rest = found[0].rpartition("!")
            return sheet + mark + _TOKEN.sub(one, rest)
        if found["row3"] is not None:
            ends = ((found["fix3"], int(found["row3"])), (found["fix4"], int(found["row4"])))
            return ":".join(f"{fixed}{row if fixed else row + down}" for fixed, row in ends)
        second = f":{place(found['left2'], found['fix2'], int(found['row2']))}" if found["row2"] else ""
        return place(found["left"], found["fix"], int(found["row"])) + second

    return _TOKEN.sub(one, formula)
