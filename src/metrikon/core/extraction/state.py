"""What a reading has come to so far: frozen, handed from stage to stage."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from metrikon.core.extraction.indexing.index import Index, Place
from metrikon.core.extraction.parsing.readings import Draft
from metrikon.core.extraction.planning.asking import PATTERNS, Asking, Given, Request
from metrikon.core.extraction.planning.besides import Besides
from metrikon.core.extraction.planning.plan import Plan
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding
from metrikon.core.records.sums import Reckoned
from metrikon.core.records.types import RecordType

MAKER = "reading"  # of findings that a reading alone can make: a check of the record at the desk neither makes nor drops them


@dataclass(frozen=True)
class Doubt:
    """A value of the answers that another reading contradicts: what was given, what may stand in its place, and the finding while that is open."""

    pointer: str
    given: Any
    candidate: Any
    finding: Finding


@dataclass(frozen=True)
class State:
    """A record in the making, and what it is made from.

    `kind`, `index`, `planned`, `given` and `asking` are what came in and never change. `draft` is what the answers say together. `record`
    and what follows is what the stages made of it: `places` and `cells` tell where values stand whose place is known, `replaced` which
    values an independent reading gave. `notes` are findings that come from reading, `checked` those of the record's own checks.
    """

    kind: RecordType
    index: Index
    planned: Plan
    given: tuple[Given, ...]
    asking: Asking
    draft: Draft = field(default_factory=Draft)
    record: Mapping[str, Any] = field(default_factory=dict)
    evidence: Mapping[str, Evidence] = field(default_factory=dict)
    replaced: frozenset[str] = frozenset()
    confirmed: frozenset[str] = frozenset()  # pointers of values that were doubted and borne out by a closed question
    insisted: frozenset[str] = frozenset()  # pointers of values that stand nowhere and were said again: they count where they follow from others
    beside: tuple[Finding, ...] = ()  # what was found wrong of the answers before any value was looked at
    doubts: tuple[Doubt, ...] = ()  # what is put to the model as a closed question before it is put to a person
    notes: tuple[Finding, ...] = ()
    checked: tuple[Finding, ...] = ()
    reckoned: Reckoned = field(default_factory=Reckoned)
    changes: tuple[str, ...] = ()
    mended: tuple[str, ...] = ()  # what repairs made better, told
    next: tuple[Request, ...] = ()

    @property
    def by_patterns(self) -> bool:
        """Whether the reader that knows its places read the whole record."""
        return bool(self.given) and self.given[0].stage == PATTERNS

    @property
    def other(self) -> Besides:
        """What an independent reading came to; nothing where it is the only one."""
        return Besides() if self.by_patterns else self.planned.besides

    @property
    def settled(self) -> frozenset[str]:
        """Pointers of values that a closed question settled: borne out, or said again and found to follow from others."""
        return self.confirmed | {pointer for pointer in self.insisted if (known := self.evidence.get(pointer)) is not None and known.found}

    @property
    def places(self) -> Mapping[str, Place]:
        """Where the reader itself says that values stand."""
        return self.draft.places

    @property
    def cells(self) -> frozenset[str]:
        """Pointers of values that are cells of a table as they stand."""
        return frozenset(self.draft.cells)

    @property
    def findings(self) -> list[Finding]:
        """All that was found so far."""
        return [*self.notes, *self.checked]

    @property
    def stopping(self) -> int:
        """How many findings stop the record."""
        return sum(1 for each in self.findings if each.level == "stop")

    @property
    def grounded(self) -> int:
        """How many values stand in the document."""
        return sum(1 for each in self.evidence.values() if each.found)

    def told(self, more: Iterable[str]) -> State:
        """With changes that were not told before."""
        fresh = [each for each in dict.fromkeys(more) if each not in self.changes]
        return replace(self, changes=(*self.changes, *fresh)) if fresh else self

    def noted(self, more: Iterable[Finding]) -> State:
        """With more findings of the reading."""
        return replace(self, notes=(*self.notes, *made_by(MAKER, more)))


Step = Callable[[State], State]


def made_by(maker: str, findings: Iterable[Finding]) -> list[Finding]:
    """Findings under the name of who made them, where they bear none."""
    return [each if each.maker else each.by(maker) for each in findings]


def through(steps: Sequence[Step], state: State) -> State:
    """What a row of stages makes of a state."""
    for step in steps:
        state = step(state)
    return state
