"""Where a run stands, what happens to it, and what must be done because of it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import msgspec
from immutables import Map

from metrikon.core.flows.model import Flow, Step


class Entry(msgspec.Struct, frozen=True):
    """One entry of a journal.

    `event`: "started", "begun", "done", "looked" (it is done again, until its condition holds), "failed", "asked", "answered", "woken" (its moment has come), "came" (an event that it waits for), "late" (its
    limit is over), "continued", "told" (its flow does its steps for the failure of this one) or "cancelled". `path`: the step instance it concerns, such as
    lines[3]/row; empty for the run as a whole. `at`: when it happened, in milliseconds since 1970; what begins because of it, begins then.
    """

    event: str
    path: str = ""
    data: Mapping[str, Any] = msgspec.field(default_factory=dict)
    at: int = 0


@dataclass(frozen=True)
class Perform:
    """Do a step. `begun`: an attempt was begun before and its end is not known. `attempt` counts from 1."""

    path: str
    step: Step
    parameters: Mapping[str, Any]
    attempt: int
    begun: bool = False
    looks: int = 0  # how often it was done before, with a condition that did not hold yet
    scope: Mapping[str, Any] = field(default_factory=dict, compare=False)
    late: int = 0  # when its limit is over (milliseconds since 1970); 0: never
    renew: bool = False  # what is there otherwise is set, or sent again


@dataclass(frozen=True)
class Again:
    """Try a step again at a moment (milliseconds since 1970)."""

    path: str
    due: int


@dataclass(frozen=True)
class Wake:
    """The moment that a step waits for has come."""

    path: str


@dataclass(frozen=True)
class Late:
    """The time that a step may take is over."""

    path: str


@dataclass(frozen=True)
class Listen:
    """A step waits for an event with a key."""

    path: str
    key: str


@dataclass(frozen=True)
class Park:
    """The run cannot go on by itself: `reason` says why and what to do."""

    path: str
    reason: str


@dataclass(frozen=True)
class AskPerson:
    """A person must answer before the run goes on."""

    path: str


@dataclass(frozen=True)
class Settle:
    """The run has come to its end: "done", "stopped" or "refused"."""

    outcome: str
    reason: str = ""


Effect = Perform | Again | Wake | Late | Listen | Park | AskPerson | Settle


class Frame(msgspec.Struct, frozen=True):
    """A block of steps being walked: which step is next, and what its names hold."""

    prefix: str
    parent: str | None  # prefix of the frame around it
    steps: tuple[Step, ...]
    scope: Map[str, Any]
    at: int = 0
    label: str = ""  # which block of the step around it: "2", "otherwise", "failed"
    made: tuple[str, ...] = ()  # the names that its steps have set


class Open(msgspec.Struct, frozen=True):
    """A step instance that is not done: its parameters and how its tries went."""

    frame: str
    step: Step
    parameters: Mapping[str, Any] | None  # None: not filled yet, while a journal is replayed
    failures: int = 0
    failed_since: int = 0  # when the first of these failures was; 0: never
    looks: int = 0  # how often it was done, with a condition that did not hold yet
    status: str = "ready"  # "ready", "begun", "waiting", "parked", "asked"
    reason: str = ""  # why it is parked
    due: int = 0  # when it is tried again or looked at, while it is waiting
    late: int = 0  # when its limit is over; 0: never
    key: str = ""  # of the event that it waits for
    since: int = 0  # when it was opened
    otherwise: Mapping[str, Any] | None = None  # what it gives where what is there otherwise stays so
    renew: bool = False  # what is there otherwise is set, or sent again
    first: bool = False  # its first row waits for a person to look at it: nothing has failed
    unsure: Mapping[str, Any] | None = None  # what it has given if it went out, where nobody can tell whether it did

    @property
    def filled(self) -> Mapping[str, Any]:
        """The parameters, their holes filled."""
        assert self.parameters is not None, "a state is made whole before anything is done from it"
        return self.parameters


class State(msgspec.Struct, frozen=True):
    """Where a run stands. `held`: what a control step keeps while it is gone through, by its path."""

    flow: Flow
    frames: Map[str, Frame] = Map()
    open: Map[str, Open] = Map()
    held: Map[str, Any] = Map()
    told: tuple[str, ...] = ()  # what is told of the run when it is done, such as that elements of a loop were refused
    outcome: str | None = None
    reason: str = ""
    now: int = 0  # when the last entry was made
    corrected: Mapping[str, Mapping[str, Any]] = {}  # values that a person corrected: by the path of the step, then by that within its result
