"""tally: totals over the rows of a destination, records, or a list; looked at one after the other, so that many take no more memory than few."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from datetime import date
from decimal import Decimal, localcontext
from itertools import islice
from typing import Any

from metrikon.core.feel import BadExpression, FeelError, evaluate
from metrikon.core.feel.scopes import Bound
from metrikon.core.values.exact import as_kept
from metrikon.core.values.rates import NoRate, Rates, rounded
from metrikon.core.values.totals import NotSummed, Totals, day_in, held
from metrikon.ports.destination import Broken, Busy, Searchable
from metrikon.ports.step import Call, Outcome, StepFailed, Workshop
from metrikon.steps.failing import busy
from metrikon.steps.rating import rates_of


def run(call: Call, workshop: Workshop) -> Outcome:
    """The totals, and what was left out of them."""
    try:
        return Outcome(_summed(call, workshop))
    except Busy as error:
        raise busy(error) from error
    except (Broken, NotSummed) as error:
        raise StepFailed(str(error)) from error
    except NoRate as error:
        raise StepFailed(f"{error} Correct the row or the flow, or wait until it is there; then continue.") from error
    except (BadExpression, FeelError) as error:
        raise StepFailed(f"The condition {call.said.that!r} could not be worked out: {error} Correct the flow, then continue.") from error


def _summed(call: Call, workshop: Workshop) -> dict[str, Any]:
    given, where = call.parameters, _where(call)
    since, until = _day(given, "from"), _day(given, "until")
    totals = Totals([str(each) for each in given["by"]], [str(each) for each in given["sum"]], given.get("per"), where)
    home = _Home(given["home"], workshop) if given.get("home") else None
    without_day = looked = 0
    for row in _rows(call, workshop):
        looked += 1
        if looked > int(given["most"]):
            raise NotSummed(f"There are more than {given['most']} rows in {where}. Say a higher `most`, or fewer rows.")
        day = day_in(held(row, str(given["date"]))) if given.get("date") else None
        if given.get("date") and day is None and (since or until or home):
            without_day += 1
            continue
        if (day and since and day < since) or (day and until and day > until) or not _as_said(row, call):
            continue
        if home is None:
            totals.add(row, day)
        else:
            totals.add(row, day, home.of(row, day))
    made: dict[str, Any] = {"rows": totals.rows(), "count": totals.count, "sums": totals.total(), "empty": totals.empty, "without_day": without_day}
    return made | ({"currency": home.into, "rates": home.used()} if home is not None else {})


class _Home:
    """Turns amounts of rows into the currency of the house."""

    def __init__(self, said: Mapping[str, Any], workshop: Workshop) -> None:
        self.into, self._column, self._oldest = str(said["into"]).strip().upper(), str(said["currency"]), int(said["rates"]["oldest"])
        self._had: Callable[[], Rates] = lambda: rates_of(said["rates"], workshop)
        self._rates: Rates | None = None
        self._used: dict[tuple[str, date], Decimal] = {}

    def of(self, row: Mapping[str, Any], day: date | None) -> Callable[[Decimal], Decimal]:
        currency = str(held(row, self._column) or "").strip().upper()
        if not currency or day is None:
            raise NotSummed(f"A row has no currency in {self._column}, so that it cannot be summed in {self.into}. Correct it, then continue.")
        if currency == self.into:
            return lambda amount: amount
        if self._rates is None:
            self._rates = self._had()
        found = self._rates.of(currency, self.into, day, self._oldest)
        if found.day is not None:
            self._used[currency, found.day] = found.rate

        def worth(amount: Decimal) -> Decimal:
            with localcontext() as context:
                context.prec = 60
                return rounded(amount * found.rate, self.into)

        return worth

    def used(self) -> list[dict[str, Any]]:
        """The rates that amounts were turned by: at most a hundred of them are told."""
        found = islice(sorted(self._used.items()), 100)
        return [{"currency": currency, "day": day.isoformat(), "rate": round(rate, 8)} for (currency, day), rate in found]


def _where(call: Call) -> str:
    given = call.parameters
    return str(given.get("in") or (f"the {given['records']} records" if given.get("records") else "the list"))


def _rows(call: Call, workshop: Workshop) -> Iterator[Mapping[str, Any]]:
    given = call.parameters
    if given.get("in"):
        name = str(given["in"])
        destination = workshop.destination(call.flow, call.flow_version, name)
        if not isinstance(destination, Searchable):
            raise Broken(f"The destination {name} cannot be looked into; name a table or a sheet.")
        yield from destination.find({}, int(given["most"]))
    elif given.get("records"):
        for values in workshop.accepted(str(given["records"])):
            yield from _within(values, given.get("each"))
    else:
        if not isinstance(given["of"], list):
            raise NotSummed("`of` holds no list of rows. Correct the flow, then continue.")
        yield from (each for each in given["of"] if isinstance(each, Mapping))


def _within(values: Mapping[str, Any], name: Any) -> Iterator[Mapping[str, Any]]:
    """A record as a row, or each row of a list in it, with what the record holds besides."""
    if not name:
        yield values
        return
    lines = values.get(str(name))
    outer = {key: value for key, value in values.items() if key != name}
    yield from ({**outer, **line} for line in lines or () if isinstance(line, Mapping))


def _day(given: Mapping[str, Any], name: str) -> date | None:
    if given.get(name) is None:
        return None
    found = day_in(given[name])
    if found is None:
        raise StepFailed(f"{name} is {str(given[name])[:40]!r}, which is no day. Correct the flow, then continue.")
    return found


def _as_said(row: Mapping[str, Any], call: Call) -> bool:
    if call.said.that is None:
        return True
    scope: Any = Bound({"row": as_kept(dict(row))}, call.scope)
    return evaluate(call.said.that, scope, None, call.moment) is True
