"""A document put before extraction: in this process, or in a worker process that can be killed."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from metrikon.core.extraction.index import Index
from metrikon.core.extraction.prompt import messages
from metrikon.core.extraction.settle import Reading, settle
from metrikon.core.records.types import RecordType
from metrikon.core.values.exact import loads
from metrikon.drivers import wire
from metrikon.drivers.frames import NOT_STORED
from metrikon.drivers.reading import ReaderPool
from metrikon.models.pattern import pattern_answer
from metrikon.ports.model import ModelAnswer
from metrikon.ports.reader import Refused


class LocalPaper:
    """Works on the document here."""

    def __init__(self, index: Index) -> None:
        self.index = index

    def messages(self, kind: RecordType, today: str, context: str) -> list[dict[str, str]]:
        return messages(kind, self.index.document, today, context)

    def patterns(self, kind: RecordType) -> ModelAnswer:
        return pattern_answer(kind, self.index)

    def settle(self, kind: RecordType, answer: ModelAnswer) -> Reading:
        return settle(kind, answer.text, self.index, answer.places, answer.sure)


class WorkerPaper:
    """Has a worker process do it. `path`: where the document's stored form lies."""

    def __init__(self, pool: ReaderPool, path: Path, renew: Callable[[], object]) -> None:
        self.pool = pool
        self.path = path
        self.renew = renew  # reads the file again when the stored form is not there or was cut off

    def messages(self, kind: RecordType, today: str, context: str) -> list[dict[str, str]]:
        found: list[dict[str, str]] = loads(self._asked("messages", kind, today=today, context=context))
        return found

    def patterns(self, kind: RecordType) -> ModelAnswer:
        return wire.answer_from(loads(self._asked("patterns", kind)))

    def settle(self, kind: RecordType, answer: ModelAnswer) -> Reading:
        return wire.reading_from(self._asked("settle", kind, answer=wire.answer_sent(answer)))

    def _asked(self, operation: str, kind: RecordType, **more: Any) -> bytes:
        request = {"op": operation, "path": str(self.path), "kind": kind.packed.decode(), **more}
        try:
            return self.pool.work(request)
        except Refused as error:
            if error.code != NOT_STORED:
                raise
        self.renew()
        return self.pool.work(request)
