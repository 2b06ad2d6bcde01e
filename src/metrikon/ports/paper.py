"""Paper: a document put before extraction. The pure stages run on it here or in a process that can be killed."""

from __future__ import annotations

from typing import Protocol

from metrikon.core.extraction.settle import Reading
from metrikon.core.records.types import RecordType
from metrikon.ports.model import ModelAnswer


class Paper(Protocol):
    """What extraction makes of one document. Each raises `ReaderDied` when the process that works on it ended."""

    def messages(self, kind: RecordType, today: str, context: str) -> list[dict[str, str]]:
        """What a language model is asked."""
        ...

    def patterns(self, kind: RecordType) -> ModelAnswer:
        """What the pattern reader answers."""
        ...

    def settle(self, kind: RecordType, answer: ModelAnswer) -> Reading:
        """The reading that an answer stands for. Raises `NotUnderstood` when it holds no JSON."""
        ...
