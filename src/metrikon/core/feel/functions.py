"""The functions an expression may call. Null for arguments they are not made for, as FEEL has it."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from decimal import ROUND_CEILING, ROUND_FLOOR, ROUND_HALF_EVEN, ROUND_HALF_UP, Decimal, InvalidOperation
from typing import Any


def _numbers(values: tuple[Any, ...]) -> list[Decimal] | None:
    items = values[0] if len(values) == 1 and isinstance(values[0], list) else list(values)
    return items if items and all(isinstance(v, Decimal) for v in items) else None


def _sum(*values: Any) -> Any:
    numbers = _numbers(values)
    return sum(numbers, Decimal(0)) if numbers else None


def _mean(*values: Any) -> Any:
    numbers = _numbers(values)
    return sum(numbers, Decimal(0)) / len(numbers) if numbers else None


def _least(*values: Any) -> Any:
    items = values[0] if len(values) == 1 and isinstance(values[0], list) else list(values)
    same = items and len({type(v) for v in items}) == 1 and not isinstance(items[0], dict | list | bool | None)
    return min(items) if same else None


def _most(*values: Any) -> Any:
    items = values[0] if len(values) == 1 and isinstance(values[0], list) else list(values)
    same = items and len({type(v) for v in items}) == 1 and not isinstance(items[0], dict | list | bool | None)
    return max(items) if same else None


def _count(value: Any) -> Any:
    return Decimal(len(value)) if isinstance(value, list) else None


def _not(value: Any) -> Any:
    return not value if isinstance(value, bool) else None


def _rounded(mode: str) -> Callable[..., Any]:
    def function(value: Any, scale: Any = Decimal(0)) -> Any:
        if not isinstance(value, Decimal) or not isinstance(scale, Decimal) or abs(scale) > 20:
            return None
        return value.quantize(Decimal(1).scaleb(-int(scale)), rounding=mode)

    return function


def _string(value: Any) -> Any:
    if value is None or isinstance(value, dict | list):
        return None
    if isinstance(value, bool):
        return "true" if value else "false"
    return f"{value:f}" if isinstance(value, Decimal) else value.isoformat() if isinstance(value, date) else value


def _number(value: Any) -> Any:
    if not isinstance(value, str):
        return value if isinstance(value, Decimal) else None
    try:
        number = Decimal(value)
    except InvalidOperation:
        return None
    return number if number.is_finite() else None


def _date(value: Any, month: Any = None, day: Any = None) -> Any:
    try:
        if isinstance(value, str) and month is None:
            return date.fromisoformat(value)
        if all(isinstance(v, Decimal) for v in (value, month, day)):
            return date(int(value), int(month), int(day))
    except ValueError:
        return None
    return value if isinstance(value, date) else None


def _on_text(function: Callable[..., Any]) -> Callable[..., Any]:
    def guarded(*values: Any) -> Any:
        return function(*values) if all(isinstance(v, str) for v in values) else None

    return guarded


def _substring(text: Any, start: Any, length: Any = None) -> Any:
    if not isinstance(text, str) or not isinstance(start, Decimal) or start == 0:
        return None
    first = int(start) - 1 if start > 0 else len(text) + int(start)
    return text[first : first + int(length)] if isinstance(length, Decimal) else text[first:]


def _list_contains(items: Any, value: Any) -> Any:
    return value in items if isinstance(items, list) else None


def _distinct(items: Any) -> Any:
    if not isinstance(items, list):
        return None
    found: list[Any] = []
    for item in items:
        if item not in found:
            found.append(item)
    return found


def _join(items: Any, between: Any = "") -> Any:
    texts = isinstance(items, list) and all(isinstance(item, str) for item in items)
    return between.join(items) if texts and isinstance(between, str) else None


FUNCTIONS: dict[str, Callable[..., Any]] = {
    "not": _not,
    "sum": _sum,
    "mean": _mean,
    "min": _least,
    "max": _most,
    "count": _count,
    "abs": lambda v: abs(v) if isinstance(v, Decimal) else None,
    "decimal": _rounded(ROUND_HALF_EVEN),
    "round_half_up": _rounded(ROUND_HALF_UP),
    "floor": _rounded(ROUND_FLOOR),
    "ceiling": _rounded(ROUND_CEILING),
    "string": _string,
    "number": _number,
    "date": _date,
    "contains": _on_text(lambda text, part: part in text),
    "starts_with": _on_text(lambda text, part: text.startswith(part)),
    "ends_with": _on_text(lambda text, part: text.endswith(part)),
    "upper_case": _on_text(str.upper),
    "lower_case": _on_text(str.lower),
    "string_length": lambda v: Decimal(len(v)) if isinstance(v, str) else None,
    "substring": _substring,
    "list_contains": _list_contains,
    "concatenate": lambda *lists: [v for part in lists for v in part] if all(isinstance(p, list) for p in lists) else None,
    "distinct_values": _distinct,
    "string_join": _join,
}
