"""Totals over rows: counted and summed by what they have in common, exactly, one row after the other."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from decimal import Decimal, localcontext
from typing import Any

from metrikon.core.values.dates import parse_date
from metrikon.core.values.numbers import parse_number

MOST_GROUPS = 5000
PERIODS: Mapping[str, Callable[[date], str]] = {
    "day": lambda day: day.isoformat(),
    "week": lambda day: f"{day.isocalendar().year}-W{day.isocalendar().week:02d}",
    "month": lambda day: f"{day:%Y-%m}",
    "quarter": lambda day: f"{day.year}-Q{(day.month + 2) // 3}",
    "year": lambda day: f"{day.year}",
}


class NotSummed(ValueError):
    """A row that cannot be summed; the message says why."""


@dataclass
class _Group:
    by: tuple[Any, ...]
    count: int = 0
    sums: dict[str, Decimal] = field(default_factory=dict)


@dataclass
class Totals:
    """Rows counted, and their columns `sums` summed, by their columns `by` and the period of their day.

    `per`: day, week, month, quarter or year; `where`: how rows are named in what is told.
    """

    by: Sequence[str]
    sums: Sequence[str]
    per: str | None = None
    where: str = "the rows"
    count: int = 0
    empty: int = 0  # values that were not there
    _groups: dict[tuple[Any, ...], _Group] = field(default_factory=dict)
    _all: dict[str, Decimal] = field(default_factory=dict)

    def add(self, row: Mapping[str, Any], day: date | None, worth: Callable[[Decimal], Decimal] = lambda amount: amount) -> None:
        """Add a row. `worth`: what an amount of it is summed as. Raises `NotSummed`."""
        key = tuple(_plain(held(row, name)) for name in self.by)
        if self.per is not None:
            key = (*key, PERIODS[self.per](day) if day is not None else None)
        group = self._groups.get(key)
        if group is None:
            if len(self._groups) >= MOST_GROUPS:
                raise NotSummed(f"There are more than {MOST_GROUPS} sums by {', '.join(self.by)}. Sum by something that fewer rows differ in.")
            group = self._groups[key] = _Group(key)
        self.count += 1
        group.count += 1
        with localcontext() as context:
            context.prec = 60
            for name in self.sums:
                value = number_in(held(row, name))
                if value is None:
                    told = held(row, name)
                    if told not in (None, ""):
                        raise NotSummed(
                            f"Row {self.count} of {self.where}: {name} holds {str(told)[:60]!r}, which is no number. Correct it, then continue."
                        )
                    self.empty += 1
                    continue
                value = worth(value)
                group.sums[name] = group.sums.get(name, Decimal(0)) + value
                self._all[name] = self._all.get(name, Decimal(0)) + value

    def rows(self) -> list[dict[str, Any]]:
        """A row for each that differs: what it has in common, its period, how many there are, and the sums; in the order of periods, then as they came."""
        names = [*self.by, *(["period"] if self.per is not None else [])]
        groups = list(self._groups.values())
        if self.per is not None:
            groups.sort(key=lambda group: str(group.by[-1] or ""))
        return [
            {**dict(zip(names, group.by, strict=True)), "count": group.count, **{name: group.sums.get(name, Decimal(0)) for name in self.sums}}
            for group in groups
        ]

    def total(self) -> dict[str, Decimal]:
        """The sums over all rows."""
        return {name: self._all.get(name, Decimal(0)) for name in self.sums}


def held(row: Mapping[str, Any], name: str) -> Any:
    """What a row holds under a name; tables hold names in small letters with underscores, records fields within others after a point."""
    if name in row:
        return row[name]
    small = name.lower().replace(" ", "_")
    found = next((value for known, value in row.items() if known.lower().replace(" ", "_") == small), None)
    if found is None and "." in name:
        at: Any = row
        for part in name.split("."):
            at = at.get(part) if isinstance(at, Mapping) else None
        return at
    return found


def number_in(value: Any) -> Decimal | None:
    """A value as an exact number; None where it is none."""
    if isinstance(value, bool):
        return None
    if isinstance(value, int | Decimal):
        return Decimal(value)
    if isinstance(value, float):
        return Decimal(repr(value)) if value == value and abs(value) != float("inf") else None
    return parse_number(value) if isinstance(value, str) and value.strip() else None


def day_in(value: Any) -> date | None:
    """A value as a day; None where it is none, or may be two."""
    if isinstance(value, date):
        return date(value.year, value.month, value.day)
    text = str(value or "").strip()
    try:
        return date.fromisoformat(text[:10])
    except ValueError:
        return parse_date(text)


def _plain(value: Any) -> Any:
    if isinstance(value, date):
        return value.isoformat()
    if isinstance(value, Mapping | list):
        return str(value)
    return value if value != "" else None
