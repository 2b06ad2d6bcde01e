"""A document put before extraction: in this process, or in a worker process that can be killed."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import msgspec

from metrikon.core.documents.model import Within
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.asking import PATTERNS, Asking, Given, Request
from metrikon.core.extraction.planning.besides import Besides
from metrikon.core.extraction.planning.estimate import Estimate, estimate
from metrikon.core.extraction.planning.plan import Plan, plan
from metrikon.core.extraction.settle import Reading, settled
from metrikon.core.judging import tasks
from metrikon.core.judging.tasks import Task
from metrikon.core.judging.verdict import Verdict
from metrikon.core.records.types import RecordType
from metrikon.core.values.exact import loads
from metrikon.drivers import wire
from metrikon.drivers.frames import NOT_STORED
from metrikon.drivers.reading import ReaderPool
from metrikon.models.pattern import pattern_given, read_besides
from metrikon.ports.model import Picture
from metrikon.ports.reader import Refused


def _drawn(document: str, pages: Sequence[int], draw: Callable[[int], bytes]) -> list[Picture]:
    return [Picture(document, number, draw(number)) for number in pages]


class LocalPaper:
    """Works on the document here."""

    def __init__(self, index: Index, draw: Callable[[int], bytes] | None = None) -> None:
        self.index = index
        self.draw = draw  # a page as PNG; without it no picture is shown
        self._other: tuple[RecordType, Besides] | None = None
        self._planned: tuple[RecordType, Asking, Plan] | None = None

    @property
    def about(self) -> str:
        return self.index.document.sha256

    def asks(self, kind: RecordType, asking: Asking) -> Sequence[Request]:
        return self._plan(kind, asking).asks

    def estimate(self, kind: RecordType, asking: Asking) -> Estimate:
        return estimate(kind, self.index, self._plan(kind, asking), loads(pattern_given(kind, self.index).text), asking)

    def patterns(self, kind: RecordType) -> Given:
        return pattern_given(kind, self.index)

    def pictures(self, pages: Sequence[int]) -> Sequence[Picture]:
        return _drawn(self.about, pages, self.draw) if self.draw else ()

    def settle(self, kind: RecordType, given: Sequence[Given], asking: Asking) -> Reading:
        """What the pattern reader reads is set against the answers of models, as an independent reading."""
        alone = bool(given) and given[0].stage == PATTERNS
        return settled(kind, self.index, given, asking, None if alone else self._plan(kind, asking))

    def judging(self, task: Task, asking: Asking) -> Sequence[Request]:
        return tasks.asks(task, self.index, asking)

    def judging_takes(self, task: Task, asking: Asking) -> Estimate:
        return tasks.estimate(task, self.index, asking)

    def judged(self, task: Task, given: Sequence[Given], asking: Asking) -> Verdict:
        return tasks.settled(task, self.index, given, asking)

    def _plan(self, kind: RecordType, asking: Asking) -> Plan:
        """The plan by which the document is asked about; the last one is kept, since answers to it come next."""
        if self._planned is None or self._planned[0] is not kind or self._planned[1] != asking:
            self._planned = (kind, asking, plan(kind, self.index, asking.today, asking.context, asking.room, self._besides(kind)))
        return self._planned[2]

    def _besides(self, kind: RecordType) -> Besides:
        """What the pattern reader reads, worked out once."""
        if self._other is None or self._other[0] is not kind:
            self._other = (kind, read_besides(kind, self.index))
        return self._other[1]


def _sent(task: Task) -> str:
    return tasks.packed(task).decode()


class WorkerPaper:
    """Has a worker process do it. `path`: where the document's stored form lies. `draw`: a page as PNG."""

    def __init__(
        self, pool: ReaderPool, path: Path, renew: Callable[[], object], draw: Callable[[int], bytes] | None = None, only: Within | None = None
    ) -> None:
        self.pool = pool
        self.only = only  # one of several documents within it
        self.draw = draw
        self.path = path
        self.renew = renew  # reads the file again when the stored form is not there or was cut off

    @property
    def about(self) -> str:
        return self.path.name.partition("-")[0]

    def asks(self, kind: RecordType, asking: Asking) -> Sequence[Request]:
        return msgspec.convert(loads(self._asked("asks", kind, asking=wire.sent(asking))), list[Request])

    def estimate(self, kind: RecordType, asking: Asking) -> Estimate:
        return msgspec.json.decode(self._asked("estimate", kind, asking=wire.sent(asking)), type=Estimate)

    def patterns(self, kind: RecordType) -> Given:
        return wire.given_from(self._asked("patterns", kind))

    def pictures(self, pages: Sequence[int]) -> Sequence[Picture]:
        return _drawn(self.about, pages, self.draw) if self.draw else ()

    def settle(self, kind: RecordType, given: Sequence[Given], asking: Asking) -> Reading:
        return wire.reading_from(self._asked("settle", kind, given=list(given), asking=wire.sent(asking)))

    def judging(self, task: Task, asking: Asking) -> Sequence[Request]:
        return msgspec.convert(loads(self._worked("judging", task=_sent(task), asking=wire.sent(asking))), list[Request])

    def judging_takes(self, task: Task, asking: Asking) -> Estimate:
        return msgspec.json.decode(self._worked("judging_takes", task=_sent(task), asking=wire.sent(asking)), type=Estimate)

    def judged(self, task: Task, given: Sequence[Given], asking: Asking) -> Verdict:
        return msgspec.convert(loads(self._worked("judged", task=_sent(task), given=list(given), asking=wire.sent(asking))), Verdict)

    def _asked(self, operation: str, kind: RecordType, **more: Any) -> bytes:
        return self._worked(operation, kind=kind.packed.decode(), **more)

    def _worked(self, operation: str, **more: Any) -> bytes:
        request = {"op": operation, "path": str(self.path), **more}
        if self.only is not None:
            request["only"] = msgspec.json.encode(self.only).decode()
        try:
            return self.pool.work(request)
        except Refused as error:
            if error.code != NOT_STORED:
                raise
        self.renew()
        return self.pool.work(request)
