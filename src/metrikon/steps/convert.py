"""convert: an amount in another currency, at the rate of its own day or of the last before it."""

from __future__ import annotations

from decimal import Decimal, localcontext
from typing import Any

from metrikon.core.values.rates import NoRate, Rate, rounded
from metrikon.core.values.totals import day_in, number_in
from metrikon.ports.step import Call, Outcome, StepFailed, Workshop
from metrikon.steps.rating import rates_of


def run(call: Call, workshop: Workshop) -> Outcome:
    """The amount, the rate, the day whose rate it is, and that in words."""
    given = call.parameters
    amount, tax = _number(given["amount"], "amount"), given.get("tax")
    currency, into = str(given["currency"]).strip().upper(), str(given["into"]).strip().upper()
    on = day_in(given["on"])
    if on is None:
        raise StepFailed(f"{str(given['on'])[:40]!r} is no day whose rate could be taken. Correct the record or the flow, then continue.")
    try:
        found = (
            Rate(Decimal(1), None) if currency == into else rates_of(given["rates"], workshop).of(currency, into, on, int(given["rates"]["oldest"]))
        )
    except NoRate as error:
        raise StepFailed(f"{error} Correct the record or the flow, or wait until it is there; then continue.") from error
    made: dict[str, Any] = {
        "amount": _worth(amount, found, into),
        "currency": into,
        "rate": found.rate if found.day is None else round(found.rate, 8),
        "day": found.day.isoformat() if found.day else on.isoformat(),
        "said": _said(currency, into, found, on.isoformat()),
    }
    if tax is not None:
        before = amount - _number(tax, "tax")
        made |= {"before_tax": _worth(before, found, into), "before_tax_there": rounded(before, currency)}
    return Outcome(made)


def _worth(amount: Decimal, found: Rate, into: str) -> Decimal:
    with localcontext() as context:
        context.prec = 60
        return rounded(amount * found.rate, into)


def _number(value: Any, name: str) -> Decimal:
    found = number_in(value)
    if found is None:
        raise StepFailed(f"{name} is {str(value)[:40]!r}, which is no number. Correct the record or the flow, then continue.")
    return found


def _said(currency: str, into: str, found: Rate, on: str) -> str:
    if found.day is None:
        return f"It is in {into} already."
    day = found.day.isoformat()
    return f"1 {currency} = {round(found.rate, 6).normalize():f} {into} on {day}{f', the last before {on}' if day != on else ''}."
