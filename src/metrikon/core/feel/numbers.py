"""Numbers: decimals of 34 digits, rounded half to even (DMN 1.5, 10.3.2.3.1; IEEE 754-2008 decimal128)."""

from __future__ import annotations

from decimal import ROUND_HALF_EVEN, Clamped, Context, Decimal, DivisionByZero, InvalidOperation, Overflow

DIGITS = 34
ARITHMETIC = Context(
    prec=DIGITS, rounding=ROUND_HALF_EVEN, Emin=-6143, Emax=6144, clamp=0, traps=[DivisionByZero, InvalidOperation, Overflow], flags=[Clamped]
)
NoNumber = (DivisionByZero, InvalidOperation, Overflow)


def rounded(number: Decimal) -> Decimal:
    """A number with at most 34 digits. Raises `Overflow` (an ArithmeticError) for one beyond all bounds."""
    return ARITHMETIC.plus(number)


def shown(number: Decimal) -> str:
    """A number as text, without an exponent where it is not very long."""
    return f"{number:f}" if -50 < number.adjusted() < 50 else str(number)
