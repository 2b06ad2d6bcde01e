"""Paper: a document put before extraction. The pure stages run on it here or in a process that can be killed."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from metrikon.core.extraction.planning.asking import Asking, Given, Request
from metrikon.core.extraction.planning.estimate import Estimate
from metrikon.core.extraction.settle import Reading
from metrikon.core.judging.tasks import Task
from metrikon.core.judging.verdict import Verdict
from metrikon.core.records.types import RecordType
from metrikon.ports.model import Picture


class Paper(Protocol):
    """What extraction makes of one document. Each raises `ReaderDied` when the process that works on it ended."""

    @property
    def about(self) -> str:
        """The hash of its file."""
        ...

    def asks(self, kind: RecordType, asking: Asking) -> Sequence[Request]:
        """What a language model is asked first; nothing when the document itself says it all."""
        ...

    def estimate(self, kind: RecordType, asking: Asking) -> Estimate:
        """What asking a language model would take."""
        ...

    def patterns(self, kind: RecordType) -> Given:
        """What the pattern reader answers."""
        ...

    def pictures(self, pages: Sequence[int]) -> Sequence[Picture]:
        """Pages as they look, for a model that sees."""
        ...

    def judging(self, task: Task, asking: Asking) -> Sequence[Request]:
        """What a language model is asked first to judge it."""
        ...

    def judging_takes(self, task: Task, asking: Asking) -> Estimate:
        """What that would take."""
        ...

    def judged(self, task: Task, given: Sequence[Given], asking: Asking) -> Verdict:
        """What answers come to, and what to ask next."""
        ...

    def settle(self, kind: RecordType, given: Sequence[Given], asking: Asking) -> Reading:
        """The reading that answers stand for, and what to ask next."""
        ...
