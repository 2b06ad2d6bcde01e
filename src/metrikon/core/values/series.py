"""Rows as the series of a chart: what stands along it, which series there are, and the amount at each place."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from metrikon.core.values.text import clean
from metrikon.core.values.totals import held, number_in

MOST_ALONG, MOST_SERIES, LONGEST = 60, 8, 60


class NoChart(ValueError):
    """Rows that cannot be drawn; the message says why."""


@dataclass(frozen=True)
class Series:
    """`names`: of the series, one without a name where there is but one; `along`: the places; `amounts`: by series, None where there is none at a place."""

    names: tuple[str, ...]
    along: tuple[str, ...]
    amounts: tuple[tuple[Decimal | None, ...], ...]


def series(rows: Sequence[Mapping[str, Any]], along: str, amount: str, by: str | None) -> Series:
    """The series in rows; rows that share place and series are added up. Raises `NoChart`."""
    places: dict[str, None] = {}
    names: dict[str, None] = {}
    found: dict[tuple[str, str], Decimal] = {}
    for number, row in enumerate(rows, 1):
        for column in (along, amount, *([by] if by else [])):
            if column not in row and held(row, column) is None and not any(held(other, column) is not None for other in rows[:50]):
                raise NoChart(f"The rows have no column {column!r}. They have {', '.join(map(str, row)) or 'none'}.")
        value = number_in(held(row, amount))
        if value is None and held(row, amount) not in (None, ""):
            raise NoChart(f"Row {number}: {amount} holds {str(held(row, amount))[:60]!r}, which is no number.")
        place, name = _label(held(row, along)), _label(held(row, by)) if by else ""
        places[place], names[name] = None, None
        if value is not None:
            found[name, place] = found.get((name, place), Decimal(0)) + value
    if len(places) > MOST_ALONG:
        raise NoChart(f"There are {len(places)} places along {along}; at most {MOST_ALONG} can be read. Sum by something coarser.")
    if len(names) > MOST_SERIES:
        raise NoChart(f"There are {len(names)} series by {by}; at most {MOST_SERIES} can be told apart. Sum by something coarser.")
    amounts = tuple(tuple(found.get((name, place)) for place in places) for name in names)
    return Series(tuple(names), tuple(places), amounts)


def _label(value: Any) -> str:
    text = " ".join(clean("" if value is None else str(value)).split())
    return (text if len(text) <= LONGEST else f"{text[: LONGEST - 1]}…") or "(none)"


def written(amount: Decimal) -> str:
    """An amount beside a bar: with groups of three, without digits after the point where it is large."""
    digits = 0 if abs(amount) >= 10_000 or amount == amount.to_integral_value() else 2
    return f"{amount:,.{digits}f}"
