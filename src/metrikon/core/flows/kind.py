"""How a kind of step is declared: its parameters, what it gives, what can be said of it without running it, and how it is to be treated.

A kind is one object. What it does stands elsewhere: in `steps`, under the same name; or, where it only moves a run about (`choose`, `each`, `stop`),
in its `control`, which the fold walks.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import TYPE_CHECKING, Any, Literal, Protocol

from metrikon.core.decisions.model import Table
from metrikon.core.deliveries.sending import Sends
from metrikon.core.flows.form import Form
from metrikon.core.judging.tasks import Task
from metrikon.core.records.types import RecordType

if TYPE_CHECKING:
    from metrikon.core.flows.around import Around
    from metrikon.core.flows.state import Frame, Open
    from metrikon.core.flows.walk import Here, Walk

Schema = Mapping[str, Any]
ANYTHING: Schema = {}
Missing = Callable[[str], Sequence[str]]  # of a parameter the names in it that gave null
Said = tuple[str, str]  # the place in a step's parameters, such as "to", and what is wrong there


Dealt = Literal["dealt", "person", "around"]


class Control(Protocol):
    """A kind that moves a run about: it has no entries in the journal, since it follows from those of others. `Steady` has what most need."""

    def enter(self, walk: Walk, here: Here) -> None:
        """The step is reached."""
        ...

    def through(self, walk: Walk, here: Here, label: str, given: dict[str, Any]) -> None:
        """A block of steps within it has come to its end; `given`: what they gave, by their names."""
        ...

    def refused(self, walk: Walk, here: Here, block: Frame, reason: str) -> bool:
        """What a block does is refused. True: it is dealt with; False: it is for whoever is around."""
        ...

    def failed(self, walk: Walk, here: Here, block: Frame, reason: str) -> Dealt:
        """A step in a block cannot go on: it is dealt with, waits for a person, or is for whoever is around."""
        ...

    def left(self, walk: Walk, here: Here, block: Frame, reason: str) -> bool:
        """A person leaves out what a step that cannot go on was for. True: it is dealt with; False: it is for whoever is around."""
        ...

    def woken(self, walk: Walk, here: Here, step: Open, data: Mapping[str, Any]) -> None:
        """The moment ("came": "moment") or the event ("event", with its `data`) that the step waits for has come."""
        ...


class Steady:
    """A control kind goes on after its block, and leaves what was refused or has failed to whoever is around."""

    def through(self, walk: Walk, here: Here, label: str, given: dict[str, Any]) -> None:
        walk.go_on(here, given)

    def refused(self, walk: Walk, here: Here, block: Frame, reason: str) -> bool:
        return False

    def failed(self, walk: Walk, here: Here, block: Frame, reason: str) -> Dealt:
        return "around"

    def left(self, walk: Walk, here: Here, block: Frame, reason: str) -> bool:
        return False

    def woken(self, walk: Walk, here: Here, step: Open, data: Mapping[str, Any]) -> None:
        return None


@dataclass(frozen=True)
class Asks:
    """What a step asks a language model for: so that its cost is known beforehand."""

    record_type: str  # nothing where something is judged
    model: str | None
    context: str = ""
    task: Task | None = None  # what is judged
    second: str | None = None  # the model that reads a second time
    calls: int = 12  # most requests


def _nothing_said(parameters: Any, around: Around) -> Iterable[Said]:
    return ()


def _anything(parameters: Any, around: Around) -> Schema | None:
    return ANYTHING


def _asks_nothing(parameters: Any) -> Asks | None:
    return None


def _names(parameters: Any, around: Around, block: str) -> Mapping[str, Schema | None]:
    return {}


@dataclass(frozen=True)
class Writes:
    """Columns of a destination that a step sets, under which of its parameters they stand, and whether a row is made where none is."""

    to: str
    columns: Mapping[str, Any]
    makes: bool
    under: str = "columns"


@dataclass(frozen=True)
class Kind:
    """A kind of step.

    `result`: JSON Schema of what it gives, None where a name holds nothing. `check`: what is wrong with its parameters, as far as can be told
    without running it. `names`: what a block within it sees besides (the block by the name of its parameter), `sees`: what its conditions do. `needs`: parameters without which it
    cannot be done. `outward`: its effect leaves the house, so `begun` is journaled before it. `gathered`: many of it are done in one commit. `awaited`: once begun, its end comes from elsewhere.
    `repeatable`: one that was interrupted may be done again. `looks`: it looks at something and changes nothing, so that it may be done again until
    a condition over what it gives holds. `ends`: what stands after it is never reached. `leaves`: it leaves
    something open that is closed when its run ends. `waits`: what people read while its
    end is awaited. `late`: what it gives, from its parameters, when its time is over; without one, or with None, it has then failed. `uses`: what is
    kept here that it names, each with what it is: "record type", "decision table", "list". `asks`: what it asks a model for. `writes`: the columns of rows that it sets (`Writes`). `tell`: a step in one plain sentence made from its parameters; `would`: what it would do, from its
    filled parameters, where it is only tried: a step that changes something outside has one, and is not done then; `sends`: what goes out by it, from its filled parameters, which is not repeated when an item is run again; `told`: what its run tells of its result when it is done, or nothing; `goes`: what goes out by it besides rows, in a few words; `ways`: a sentence for
    each block of steps within it, in order. `remarks`: what is right and yet worth a word, such as a choice that was left open. `known_by`: what tells
    that which it makes from all others, from its filled parameters; None where one is set again and again. `sample`: a step of it in YAML, without its name.
    """

    name: str
    parameters: type[Form]
    result: Callable[[Any, Around], Schema | None] = _anything
    check: Callable[[Any, Around], Iterable[Said]] = _nothing_said
    names: Callable[[Any, Around, str], Mapping[str, Schema | None]] = _names
    sees: Callable[[Any, Around], Mapping[str, Schema | None]] = lambda parameters, around: {}
    lacks: Callable[[Mapping[str, Any], Missing], str] | None = None
    needs: tuple[str, ...] = ()
    outward: bool = False
    gathered: bool = False
    awaited: bool = False
    repeatable: bool = True
    looks: bool = False
    ends: bool = False
    leaves: bool = False
    waits: str = "Its end is awaited."
    late: Callable[[Mapping[str, Any], datetime], Any] | None = None
    uses: Callable[[Any], Iterable[tuple[str, str]]] = lambda parameters: ()
    asks: Callable[[Any], Asks | None] = _asks_nothing
    writes: Callable[[Any], Iterable[Writes]] | None = None
    tell: Callable[[Any], str] | None = None
    would: Callable[[Mapping[str, Any]], str] | None = None
    told: Callable[[Any], str] | None = None
    sends: Callable[[Mapping[str, Any]], Sends | None] | None = None
    goes: Callable[[Any], str] | None = None
    ways: Callable[[Any], Sequence[str]] = lambda parameters: ()
    control: Control | None = None
    remarks: Callable[[Any, Around], Iterable[Said]] = _nothing_said
    known_by: Callable[[Mapping[str, Any]], Any] | None = None
    sample: str = ""
    version: int = 1

    @property
    def goes_out(self) -> bool:
        """Whether its parameters are read outside, and not by a model."""
        return (self.outward or self.gathered) and self.asks is _asks_nothing

    @property
    def about(self) -> str:
        """What it does, in a sentence."""
        return str(self.parameters.__doc__)

    def incomplete(self, values: Mapping[str, Any], missing: Missing) -> str:
        """Why a step cannot be done with these parameters, or nothing."""
        for name in self.needs:
            if values.get(name) is None:
                return f"{name} has no value: {', '.join(missing(name)) or name} is missing. Correct the flow, then continue."
        return self.lacks(values, missing) if self.lacks else ""


@dataclass(frozen=True)
class Known:
    """What is kept here, that flows may name."""

    record_types: Mapping[str, RecordType] = field(default_factory=dict)
    models: frozenset[str] = frozenset()
    tables: Mapping[str, Table] = field(default_factory=dict)
    lists: Mapping[str, Sequence[str]] = field(default_factory=dict)  # with the heads of their columns
    flows: Mapping[str, Sequence[str]] = field(default_factory=dict)  # each with those that it uses
    connections: frozenset[str] = frozenset()
    ways: Mapping[str, Sequence[str]] = field(default_factory=dict)  # ways in, each with what it takes
    whole: bool = True  # whether that is all there is; else a name that is not here may be known elsewhere


@dataclass(frozen=True)
class Language:
    """The kinds of step, intake and destination that a service knows, by name: of the latter two the forms of what a flow says of them."""

    steps: Mapping[str, Kind]
    intakes: Mapping[str, type[Form]]
    destinations: Mapping[str, type[Form]]
