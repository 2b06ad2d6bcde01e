"""Destination: where rows go. Each row carries a key that tells whether it was written before."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal, Protocol, runtime_checkable

from metrikon.core.flows.form import Form
from metrikon.core.flows.mapping import Head
from metrikon.ports.apart import HERE, Apart
from metrikon.ports.touching import Touched

KEY_COLUMN = "delivery_key"


@dataclass(frozen=True)
class Row:
    """One row: its delivery key, its values by column, and the parts of its key, by which rows of an earlier version are recognised.

    `sets`: when the row is there already, these columns of it are set. `was`: what we have written into it last, by column; None where that is not known.
    What stands there otherwise has been set by a person: it is left, unless `over`. `only`: where there is no such row, none is written. `moves`: the key that
    the row has now; it gets this key and these values. `removes`: the row is taken away, where its columns still hold `was`.
    `whole`: nothing of it is set where somebody has changed any of its columns.
    `handed`: it was handed over before, and what came of that is not known; `twin`: the same values were written there under another key.
    `columns_before`: columns that were written to this place before: one of them that is gone has been renamed or taken out, and is not made again.
    """

    key: str
    values: Mapping[str, Any]
    parts: Sequence[Any] = ()
    sets: bool = False
    was: Mapping[str, Any] | None = None
    over: bool = False
    only: bool = False
    moves: Row | None = None
    removes: bool = False
    whole: bool = False
    columns_before: Sequence[str] = ()
    handed: bool = False
    twin: bool = False


@dataclass(frozen=True)
class Receipt:
    """What became of a row: "written", or when its key was found "there already", or "updated", or "not there", or "removed"; and where.

    `left`: columns that a person has set, which were left as they are. `there`: columns that are there otherwise than they were given, with what is there:
    of a row that is there already, and of one that was not removed or moved because of them. `before`: what stood in columns that were set. `ours`: the key that
    was found is our own, so that nobody else has written the row.
    """

    key: str
    result: Literal["written", "there already", "updated", "not there", "removed", "left"]
    place: str = ""
    left: Sequence[str] = ()
    there: Mapping[str, Any] = field(default_factory=dict)
    before: Mapping[str, Any] | None = None
    ours: bool = False


class Busy(Exception):
    """The destination cannot take rows just now; trying again later may help, after `wait` seconds where that is told.

    `turn`: it was not asked at all, since it was not one's turn, which counts as no try.
    """

    def __init__(self, message: str, *, wait: float | None = None, turn: bool = False) -> None:
        super().__init__(message)
        self.wait = wait
        self.turn = turn


class Broken(Exception):
    """The destination cannot take these rows; a person must change something first."""


class Unusable(Broken):
    """The destination can take no row at all before a person has changed something."""


class Unsure(Exception):
    """The connection was lost after a row had been handed over, and nobody can tell whether it was written: a person must look.

    `looked`: the destination has been asked, and that did not tell either.
    """

    def __init__(self, message: str, *, looked: bool = False) -> None:
        super().__init__(message)
        self.looked = looked


class Partly(Exception):
    """Rows up to one were written, in their order; that one was not, for a reason (`Busy`, `Broken` or `Unsure`); those after it were not tried.

    `concerns`: how many rows the reason is of, which were handed over in one call.
    """

    def __init__(self, receipts: Sequence[Receipt], reason: Busy | Broken | Unsure, concerns: int = 1) -> None:
        super().__init__(str(reason))
        self.concerns = concerns
        self.receipts = receipts
        self.reason = reason


Can = Literal["enforces", "finds", "neither"]
Change = Literal["set", "move", "remove"]


class Destination(Protocol):
    """Where rows are written.

    `can`: it "enforces" our key, "finds" what was written before it writes again, or can do "neither", so that a write which was cut off is not repeated
    before a person has looked. `most`: rows that it takes at once. `gather`: seconds between batches, at least. `rest`: times the last batch's duration
    that it rests, so that slow saves gather more rows. `found_within`: seconds until what was written is found by one that finds. `safe_for`: seconds for
    which one that enforces our key remembers it. `changes`: whether it can set columns of a row, give it another key (`Row.moves`) and remove it (`Row.removes`).
    `ordered`: rows
    of a run come one below the other, so that none is written while nobody can tell of one before it. `Usual` has what most have.
    """

    can: Can
    most: int
    gather: float
    rest: float
    found_within: float
    safe_for: float
    changes: frozenset[Change]
    ordered: bool

    def write(self, rows: Sequence[Row]) -> list[Receipt]:
        """Write rows in one batch, in order; rows whose key is there are left as they are, or set.

        Raises `Busy` or `Broken`; then none of the rows counts as written. Raises `Partly` where each is written by itself.
        """
        ...


class Usual:
    """What most destinations are."""

    can: Can = "enforces"
    most = 5000
    gather = 0.02
    rest = 0.0
    found_within = 0.0
    safe_for = math.inf
    changes: frozenset[Change] = frozenset({"set", "move", "remove"})
    ordered = False


def gone(column: str, place: str, heads: Sequence[str]) -> Unusable:
    """What is told of a column that was written before and is not there any more."""
    known = ", ".join(each for each in heads if each and each != KEY_COLUMN) or "none"
    return Unusable(
        f"The column {column}, which was written before, is not there any more in {place}. Its columns: {known}. Give it its name again, or correct the mapping "
        "of the flow; then continue."
    )


@runtime_checkable
class Headed(Protocol):
    """A destination that has columns before the first row is written. `grows`: a column that is not there is added."""

    @property
    def grows(self) -> bool: ...

    def heads(self) -> Sequence[Head] | None:
        """Its columns as they are; None where it is made with its first row. Raises `Busy` or `Broken`."""
        ...


@runtime_checkable
class Searchable(Protocol):
    """A destination that can be looked into."""

    def find(self, where: Mapping[str, Any], most: int) -> Iterator[Mapping[str, Any]]:
        """Rows with these values in these columns, in the order that they were written in. Raises `Busy`, and `Broken` where there are more than `most`: none is
        left out in silence."""
        ...


@runtime_checkable
class Comparable(Protocol):
    """A destination in which a person can look for a row that may have been written, though it cannot be told by its key."""

    def like(self, values: Mapping[str, Any], most: int) -> Sequence[Mapping[str, Any]] | None:
        """What it holds now that shares a value with this row; None where nothing can be looked for. Raises `Busy` or `Broken`."""
        ...


@dataclass(frozen=True)
class Named:
    """A column that what a flow says of a destination names, and where in it. `may_come`: one that rows bring with them will do."""

    where: tuple[str | int, ...]
    column: str
    may_come: bool = False


@dataclass(frozen=True)
class There:
    """What a destination is built with: the folder of the service, how outside services are called, and where files of strangers are opened."""

    home: Path
    calling: Any = None  # engine.outside.Outside
    apart: Apart = HERE


@dataclass(frozen=True)
class DestinationKind:
    """A kind of destination, declared beside its adapter.

    `parameters`: the form of what a flow says of it. `place`: the place itself, named from the folder of the service and without secrets, so that
    two flows that write there share its delivery keys. `former_place`: the same as earlier versions named it in their keys. `build`: the adapter;
    raises `Unusable` when what the flow says cannot be used. `tell`: where rows go, in a few words. `touches`: the file or server that it uses. `names`: the columns that it names.
    """

    name: str
    parameters: type[Form]
    place: Callable[[Any, There], str]
    former_place: Callable[[Any, There], str]
    build: Callable[[Any, There], Destination]
    tell: Callable[[Any], str]
    touches: Callable[[Any, Path], Touched | None] = lambda said, home: None
    names: Callable[[Any], Sequence[Named]] = lambda said: ()
