"""What +, -, *, / and ** give for any two values; null where they are not made for them (DMN 1.5, 10.3.2.3)."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from decimal import Decimal
from typing import Any

from metrikon.core.feel.numbers import ARITHMETIC, NoNumber
from metrikon.core.feel.running import COSTLY, Running
from metrikon.core.feel.temporal import added, divided, multiplied, subtracted
from metrikon.core.feel.values import Months

Value = Any


def _plus(left: Value, right: Value, running: Running) -> Value:
    if type(left) is Decimal and type(right) is Decimal:
        return _number(ARITHMETIC.add, left, right)
    if isinstance(left, str) and isinstance(right, str):
        running.make(len(left) + len(right))
        return left + right
    return added(left, right)


def _minus(left: Value, right: Value, running: Running) -> Value:
    if type(left) is Decimal and type(right) is Decimal:
        return _number(ARITHMETIC.subtract, left, right)
    return subtracted(left, right)


def _times(left: Value, right: Value, running: Running) -> Value:
    if type(left) is Decimal and type(right) is Decimal:
        return _number(ARITHMETIC.multiply, left, right)
    if isinstance(left, Decimal) and isinstance(right, timedelta | Months):
        left, right = right, left
    return multiplied(left, right) if isinstance(left, timedelta | Months) and isinstance(right, Decimal) else None


def _through(left: Value, right: Value, running: Running) -> Value:
    if type(left) is Decimal and type(right) is Decimal:
        return _number(ARITHMETIC.divide, left, right)
    return divided(left, right) if isinstance(left, timedelta | Months) else None


def _to_the_power(left: Value, right: Value, running: Running) -> Value:
    running.step(COSTLY)
    return _number(ARITHMETIC.power, left, right) if isinstance(left, Decimal) and isinstance(right, Decimal) else None


def _number(operation: Callable[[Decimal, Decimal], Decimal], left: Decimal, right: Decimal) -> Decimal | None:
    try:
        return operation(left, right)
    except NoNumber:
        return None


OPERATIONS: dict[str, Callable[[Value, Value, Running], Value]] = {"+": _plus, "-": _minus, "*": _times, "/": _through, "**": _to_the_power}
