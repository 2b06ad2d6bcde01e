"""Numeric functions (10.3.4.5), and yes/no turned round (10.3.4.2)."""

from __future__ import annotations

from datetime import timedelta
from decimal import ROUND_CEILING, ROUND_DOWN, ROUND_FLOOR, ROUND_HALF_DOWN, ROUND_HALF_EVEN, ROUND_HALF_UP, ROUND_UP, Decimal
from typing import Any

from metrikon.core.feel.functions.declared import function, whole
from metrikon.core.feel.numbers import ARITHMETIC, NoNumber
from metrikon.core.feel.values import Months

FURTHEST_SCALE = (-6111, 6176)


@function("not", "negand: any")
def _not(negand: Any) -> bool | None:
    return not negand if isinstance(negand, bool) else None


def _to(number: Decimal, scale: Decimal, mode: str) -> Decimal | None:
    """A number rounded to so many places after the point."""
    places = whole(scale.to_integral_value(rounding=ROUND_DOWN))
    if places is None or not FURTHEST_SCALE[0] <= places <= FURTHEST_SCALE[1]:
        return None
    if -int(number.as_tuple().exponent) <= places and mode != ROUND_HALF_EVEN:
        return number
    if number.adjusted() + places >= 33:
        return number  # it holds fewer places than are asked for
    if number.adjusted() + places < -2:  # far below the last place: what is left is nought or one unit
        number = Decimal((number.is_signed(), (1,), -places - 3)) if number else number
    try:
        rounded = number.quantize(Decimal(1).scaleb(-places), rounding=mode, context=ARITHMETIC)
    except NoNumber:
        return None
    return rounded if rounded else abs(rounded)


@function("decimal", "n: number", "scale: number")
def _decimal(n: Decimal, scale: Decimal) -> Decimal | None:
    return _to(n, scale, ROUND_HALF_EVEN)


@function("floor", "n: number", "scale?: number")
def _floor(n: Decimal, scale: Decimal | None = None) -> Decimal | None:
    return _to(n, scale or Decimal(0), ROUND_FLOOR)


@function("ceiling", "n: number", "scale?: number")
def _ceiling(n: Decimal, scale: Decimal | None = None) -> Decimal | None:
    return _to(n, scale or Decimal(0), ROUND_CEILING)


@function("round up", "n: number", "scale: number")
def _up(n: Decimal, scale: Decimal) -> Decimal | None:
    return _to(n, scale, ROUND_UP)


@function("round down", "n: number", "scale: number")
def _down(n: Decimal, scale: Decimal) -> Decimal | None:
    return _to(n, scale, ROUND_DOWN)


@function("round half up", "n: number", "scale: number")
def _half_up(n: Decimal, scale: Decimal) -> Decimal | None:
    return _to(n, scale, ROUND_HALF_UP)


@function("round half down", "n: number", "scale: number")
def _half_down(n: Decimal, scale: Decimal) -> Decimal | None:
    return _to(n, scale, ROUND_HALF_DOWN)


@function("abs", "n: any")
def _abs(n: Any) -> Any:
    if isinstance(n, Months):
        return Months(abs(n.months))
    return abs(n) if isinstance(n, Decimal | timedelta) else None


@function("modulo", "dividend: number", "divisor: number")
def _modulo(dividend: Decimal, divisor: Decimal) -> Decimal | None:
    if not divisor:
        return None
    try:
        quotient = ARITHMETIC.divide(dividend, divisor).to_integral_value(rounding=ROUND_FLOOR)
        return ARITHMETIC.subtract(dividend, ARITHMETIC.multiply(divisor, quotient))
    except NoNumber:
        return None


@function("sqrt", "number: number")
def _sqrt(number: Decimal) -> Decimal | None:
    return ARITHMETIC.sqrt(number) if number >= 0 else None


@function("log", "number: number")
def _log(number: Decimal) -> Decimal | None:
    return ARITHMETIC.ln(number) if number > 0 else None


@function("exp", "number: number")
def _exp(number: Decimal) -> Decimal | None:
    try:
        return ARITHMETIC.exp(number)
    except NoNumber:
        return None


@function("odd", "number: number")
def _odd(number: Decimal) -> bool | None:
    return number % 2 != 0 if number == number.to_integral_value() and number.adjusted() < 34 else None


@function("even", "number: number")
def _even(number: Decimal) -> bool | None:
    return number % 2 == 0 if number == number.to_integral_value() and number.adjusted() < 34 else None
