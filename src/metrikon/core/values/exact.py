"""JSON that keeps every digit: amounts are `Decimal` on both sides, never a float (RFC 8259)."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

import msgspec

_ENCODER = msgspec.json.Encoder(decimal_format="number")
_ORDERED = msgspec.json.Encoder(decimal_format="number", order="sorted")
MOST_DIGITS = 1000  # of a number, before or after its point, written out


def _exactly(text: str) -> Decimal:
    """A number as it is written. Raises ValueError for one that written out would have more digits than are worked with."""
    if len(text) > MOST_DIGITS or "e" in text or "E" in text:
        found = Decimal(text)
        if not -MOST_DIGITS <= found.adjusted() <= MOST_DIGITS or len(text) > 2 * MOST_DIGITS:
            raise ValueError(f"the number {text[:20]} has more than {MOST_DIGITS} digits")
        return found
    return Decimal(text)


_DECODER = msgspec.json.Decoder(float_hook=_exactly)


class NotJson(ValueError):
    """The text is not JSON; the message says where."""


def dumps(value: Any) -> bytes:
    """JSON as UTF-8 bytes; a `Decimal` is written as a number with all its digits."""
    return _ENCODER.encode(value)


def dumps_sorted(value: Any) -> bytes:
    """As `dumps`, with the keys of objects in order: equal values give equal bytes."""
    return _ORDERED.encode(value)


def as_kept(value: Any) -> Any:
    """A value as it comes back after it was written: so what is at hand is the same as what is read again."""
    return _DECODER.decode(_ENCODER.encode(value))


def loads(data: bytes | str) -> Any:
    """Read JSON; numbers with a fraction or exponent become `Decimal`. Raises `NotJson`."""
    try:
        return _DECODER.decode(data)
    except (msgspec.DecodeError, RecursionError, ArithmeticError, ValueError) as error:
        raise NotJson(str(error)) from error
