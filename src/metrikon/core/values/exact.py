"""JSON that keeps every digit: amounts are `Decimal` on both sides, never a float (RFC 8259)."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

import msgspec

_ENCODER = msgspec.json.Encoder(decimal_format="number")
_ORDERED = msgspec.json.Encoder(decimal_format="number", order="sorted")
_DECODER = msgspec.json.Decoder(float_hook=Decimal)


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
    except (msgspec.DecodeError, RecursionError, UnicodeDecodeError) as error:
        raise NotJson(str(error)) from error
