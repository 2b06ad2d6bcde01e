"""Exchange rates of days, in the XML form of the European reference rates (one `Cube` a day with a rate for each currency, units of it for one euro).

Money is rounded to the units of its currency (ISO 4217), half away from zero, as books do.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date
from decimal import ROUND_HALF_UP, Decimal, InvalidOperation, localcontext

from lxml import etree

EURO = "EUR"
MOST_DAYS, LARGEST = 20_000, 30_000_000  # days, and bytes of the XML
_NONE = ("BIF", "CLP", "DJF", "GNF", "ISK", "JPY", "KMF", "KRW", "PYG", "RWF", "UGX", "VND", "VUV", "XAF", "XOF", "XPF")
_THREE = ("BHD", "IQD", "JOD", "KWD", "LYD", "OMR", "TND")


class NoRate(ValueError):
    """There is no rate for what is asked; the message says why."""


@dataclass(frozen=True)
class Rate:
    """What one unit of a currency is worth in another, and the day whose rate it is; `None` where none is needed."""

    rate: Decimal
    day: date | None


@dataclass(frozen=True)
class Rates:
    """The rates of days: units of each currency for one euro."""

    days: tuple[date, ...]
    by_day: Mapping[date, Mapping[str, Decimal]] = field(repr=False)

    def of(self, currency: str, into: str, on: date, oldest: int) -> Rate:
        """The rate of a day, or of the last day before it that has one, at most `oldest` days before. Raises `NoRate`."""
        if currency == into:
            return Rate(Decimal(1), None)
        at = bisect_right(self.days, on) - 1
        if at < 0:
            raise NoRate(f"There is no rate of {on} or before: the first known is of {self.days[0]}.")
        day = self.days[at]
        if (on - day).days > oldest:
            raise NoRate(f"There is no rate of {on}: the last before it is of {day}, more than {oldest} days earlier.")
        one, other = self._worth(currency, day), self._worth(into, day)
        with localcontext() as context:
            context.prec = 28
            return Rate(other / one, day)

    def _worth(self, currency: str, day: date) -> Decimal:
        found = Decimal(1) if currency == EURO else self.by_day[day].get(currency)
        if found is None:
            known = ", ".join(sorted([EURO, *self.by_day[day]]))
            raise NoRate(f"{currency[:20]!r} has no rate on {day}. Known: {known}.")
        return found


def rates(data: bytes) -> Rates:
    """The rates in XML. Raises `NoRate` for what holds none."""
    if len(data) > LARGEST:
        raise NoRate(f"The list of rates has more than {LARGEST / 1e6:.0f} MB.")
    try:
        root = etree.fromstring(data, etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False))
    except etree.XMLSyntaxError as error:
        raise NoRate(f"It is no XML: {error.msg}.") from error
    found: dict[date, dict[str, Decimal]] = {}
    for each in root.iter("{*}Cube"):
        if each.get("time") is None:
            continue
        try:
            day = date.fromisoformat(each.get("time", ""))
            held = {str(one.get("currency")): Decimal(one.get("rate", "")) for one in each.iter("{*}Cube") if one.get("currency") is not None}
        except (ValueError, InvalidOperation) as error:
            raise NoRate(f"What stands under {each.get('time', '')[:20]!r} is no day with rates.") from error
        bad = [name for name, value in held.items() if not value.is_finite() or value <= 0]
        if bad:
            raise NoRate(f"The rate of {bad[0][:20]!r} on {day} is no rate.")
        found.setdefault(day, {}).update(held)
        if len(found) > MOST_DAYS:
            raise NoRate(f"The list of rates has more than {MOST_DAYS} days.")
    if not found:
        raise NoRate("It holds no rates: no day with a list of currencies.")
    return Rates(tuple(sorted(found)), found)


def units(currency: str) -> int:
    """Digits after the point of amounts in a currency (ISO 4217)."""
    return 0 if currency in _NONE else 3 if currency in _THREE else 2


def rounded(amount: Decimal, currency: str) -> Decimal:
    """An amount in units of its currency, half away from zero."""
    with localcontext() as context:
        context.prec = 60
        return amount.quantize(Decimal(1).scaleb(-units(currency)), ROUND_HALF_UP)
