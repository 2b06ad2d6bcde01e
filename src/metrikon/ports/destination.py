"""Destination: where rows go. Each row carries a key that tells whether it was written before."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal, Protocol

KEY_COLUMN = "delivery_key"


@dataclass(frozen=True)
class Row:
    """One row: its delivery key, its values by column, and the parts of its key, by which rows of an earlier version are recognised."""

    key: str
    values: Mapping[str, Any]
    parts: Sequence[Any] = ()


@dataclass(frozen=True)
class Receipt:
    """What became of a row: "written", or "there already" when its key was found; and where."""

    key: str
    result: Literal["written", "there already"]
    place: str = ""


class Busy(Exception):
    """The destination cannot take rows just now; trying again later may help."""


class Broken(Exception):
    """The destination cannot take these rows; a person must change something first."""


class Unusable(Broken):
    """The destination can take no row at all before a person has changed something."""


class Destination(Protocol):
    """`able`: "keyed" enforces our key, "findable" lets us look it up before we repeat a write."""

    able: Literal["keyed", "findable", "blind"]

    def write(self, rows: Sequence[Row]) -> list[Receipt]:
        """Write rows in one batch, in order; rows whose key is there are left as they are.

        Raises `Busy` or `Broken`; then none of the rows counts as written.
        """
        ...
