"""Destination: where rows go. Each row carries a key that tells whether it was written before."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal, Protocol, runtime_checkable

from metrikon.core.flows.form import Form
from metrikon.ports.touching import Touched

KEY_COLUMN = "delivery_key"


@dataclass(frozen=True)
class Row:
    """One row: its delivery key, its values by column, and the parts of its key, by which rows of an earlier version are recognised.

    `sets`: when the row is there already, these columns of it are set.
    """

    key: str
    values: Mapping[str, Any]
    parts: Sequence[Any] = ()
    sets: bool = False


@dataclass(frozen=True)
class Receipt:
    """What became of a row: "written", or when its key was found "there already", or "updated"; and where."""

    key: str
    result: Literal["written", "there already", "updated"]
    place: str = ""


class Busy(Exception):
    """The destination cannot take rows just now; trying again later may help."""


class Broken(Exception):
    """The destination cannot take these rows; a person must change something first."""


class Unusable(Broken):
    """The destination can take no row at all before a person has changed something."""


class Destination(Protocol):
    """It enforces our key, or looks it up before it writes.

    `gather`: seconds between batches, at least. `rest`: times the last batch's duration that it rests, so that slow saves gather more rows.
    """

    gather: float
    rest: float

    def write(self, rows: Sequence[Row]) -> list[Receipt]:
        """Write rows in one batch, in order; rows whose key is there are left as they are, or set.

        Raises `Busy` or `Broken`; then none of the rows counts as written.
        """
        ...


@runtime_checkable
class Searchable(Protocol):
    """A destination that can be looked into."""

    def find(self, where: Mapping[str, Any], most: int) -> Iterator[Mapping[str, Any]]:
        """Rows with these values in these columns, in the order that they were written in. Raises `Busy` or `Broken`."""
        ...


@dataclass(frozen=True)
class DestinationKind:
    """A kind of destination, declared beside its adapter.

    `parameters`: the form of what a flow says of it. `place`: the place itself, named from the folder of the service and without secrets, so that
    two flows that write there share its delivery keys. `former_place`: the same as earlier versions named it in their keys. `build`: the adapter;
    raises `Unusable` when what the flow says cannot be used. `tell`: where rows go, in a few words. `touches`: the file or server that it uses.
    """

    name: str
    parameters: type[Form]
    place: Callable[[Any, Path], str]
    former_place: Callable[[Any, Path], str]
    build: Callable[[Any, Path], Destination]
    tell: Callable[[Any], str]
    touches: Callable[[Any, Path], Touched | None] = lambda said, home: None
