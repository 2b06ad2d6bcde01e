"""What the service speaks of, as plain typed things. Amounts are `Decimal`, times milliseconds since 1970."""

from __future__ import annotations

from dataclasses import dataclass, field, fields
from typing import Any, Self

SETTLED = ("done", "stopped", "refused")
NEEDS_PERSON = ("review", "parked", "held")


@dataclass(frozen=True)
class _Thing:
    @classmethod
    def of(cls, data: dict[str, Any]) -> Self:
        """From the service's answer; what a newer service adds is left out."""
        names = {each.name for each in fields(cls)}
        return cls(**{name: value for name, value in data.items() if name in names})


@dataclass(frozen=True)
class Arrived(_Thing):
    """The answer to an upload. `known`: the same was sent before; `held`: it looks like a repeat.

    `others`: the further items, when the file was opened into several.
    """

    item_id: str
    run_id: str
    known: bool
    held: bool
    others: tuple[Arrived, ...] = ()


@dataclass(frozen=True)
class Item(_Thing):
    """What came in, with its latest run."""

    id: str
    flow: str
    intake: str
    name: str
    size: int
    received_at: int
    run_id: str
    state: str
    reason: str
    record_id: str | None = None
    title: str | None = None


@dataclass(frozen=True)
class Entry(_Thing):
    """One entry of a run's journal."""

    number: int
    event: str
    path: str
    kind: str
    at: int
    took: int | None
    data: dict[str, Any]


@dataclass(frozen=True)
class HeardSoFar(_Thing):
    """How much of a long recording was heard: `seconds` of it, `pieces` of so many `in_all`."""

    seconds: float
    pieces: int
    in_all: int


@dataclass(frozen=True)
class EnteredSoFar(_Thing):
    """How far an entry into a program with a screen is: `done` things of so many `in_all`, and `at` which it is."""

    done: int
    in_all: int
    at: str


@dataclass(frozen=True)
class Correction(_Thing):
    """A value that a person corrected for a run: its path, who and when (milliseconds since 1970)."""

    path: str
    value: Any
    by: str
    at: int


@dataclass(frozen=True)
class Run(_Thing):
    """One run; `journal` is filled when a single run was asked for, `heard` while its recording is heard, and `entering` while it enters something."""

    id: str
    item_id: str
    item_name: str
    flow: str
    flow_version: int
    state: str
    reason: str
    created_at: int
    settled_at: int | None
    calls: int
    input_tokens: int
    output_tokens: int
    cost: str
    record_id: str | None = None
    journal: tuple[Entry, ...] = ()
    heard: HeardSoFar | None = None
    entering: EnteredSoFar | None = None
    corrections: tuple[Correction, ...] = ()
    deliveries: tuple[dict[str, Any], ...] = ()

    @property
    def settled(self) -> bool:
        """Whether the run has come to its end."""
        return self.state in SETTLED

    @property
    def needs_person(self) -> bool:
        """Whether the run goes on only when a person does something."""
        return self.state in NEEDS_PERSON


@dataclass(frozen=True)
class Record(_Thing):
    """One record; evidence is filled when a single record was asked for."""

    id: str
    run_id: str
    item_id: str
    item_name: str
    record_type: str
    state: str
    title: str
    model: str
    values: dict[str, Any]
    findings: list[dict[str, Any]]
    evidence: dict[str, dict[str, Any]] = field(default_factory=dict)
    deliveries: list[dict[str, Any]] = field(default_factory=list)
    before: list[dict[str, Any]] = field(default_factory=list)
