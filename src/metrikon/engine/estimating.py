"""What a file would cost in a flow, before it is taken in: it is read and planned, but no model is asked and nothing is kept."""

from __future__ import annotations

import tempfile
from dataclasses import dataclass
from decimal import Decimal
from pathlib import Path

import msgspec

from metrikon.core.extraction.indexing.tokens import TYPICAL
from metrikon.core.extraction.planning.asking import Asking
from metrikon.core.extraction.planning.estimate import Estimate
from metrikon.core.flows.model import Flow
from metrikon.core.judging.anchors import version_of
from metrikon.core.judging.criteria import Judge
from metrikon.core.judging.tasks import Task
from metrikon.drivers.paper import WorkerPaper
from metrikon.drivers.reading import ReaderPool
from metrikon.engine.calling import Switchboard, sized
from metrikon.engine.catalog import Catalog
from metrikon.models.pattern import PATTERN
from metrikon.ports.reader import Refused
from metrikon.readers.recording import WANTED
from metrikon.store import calls, judged


@dataclass(frozen=True)
class Estimated:
    """Requests, tokens and cost that a file would take; `unknown` says why they cannot be told beforehand."""

    requests: float
    input_tokens: int
    output_tokens: int
    cost: Decimal
    unknown: str = ""


UNHEARD = Estimated(0, 0, 0, Decimal(0), "It is a recording: what it would cost is known once it is transcribed, which an estimate does not do.")


class Estimating:
    """Works out costs beforehand."""

    def __init__(self, readers: ReaderPool, catalog: Catalog, board: Switchboard, default: str, hears: bool, today: str = "2026-01-01") -> None:
        self._readers = readers
        self._catalog = catalog
        self._board = board
        self._default = default
        self._hears = hears  # whether recordings can be transcribed
        self._today = today

    def of(self, flow: Flow, data: bytes, passwords: tuple[str, ...] = ()) -> Estimated:
        """What a file would cost. Raises `Refused` and `ReaderDied` when it cannot be read."""
        with tempfile.TemporaryDirectory(prefix="metrikon-estimate-") as folder:
            path, place = Path(folder) / "file", Path(folder) / "document"
            path.write_bytes(data)
            try:
                self._readers.keep(path, place, passwords)
            except Refused as error:
                if error.code == WANTED and self._hears:
                    return UNHEARD
                raise
            paper = WorkerPaper(self._readers, place, lambda: None)
            found = Estimated(0, 0, 0, Decimal(0))
            for asks in (each.kind.asks(each.parameters) for each in flow.every_step):
                name = (asks.model or self._default) if asks else PATTERN
                if asks is None or name == PATTERN:
                    continue
                asking = Asking(self._today, asks.context, self._board.models[name].room, second=asks.second is not None)
                if asks.task is not None:
                    takes = paper.judging_takes(self._anchored(flow.name, asks.task), asking)
                else:
                    takes = paper.estimate(self._catalog.record_type(asks.record_type)[0], asking)
                found = _added(found, self.priced(name, takes))
        return found

    def priced_at_all(self, flow: Flow) -> bool:
        """Whether a model that a flow asks has a price."""
        asked = [each.kind.asks(each.parameters) for each in flow.every_step]
        specs = [self._board.specs.get(each.model or self._default) for each in asked if each is not None]
        return any(spec is not None and spec.price(10**6, 10**6) > 0 for spec in specs)

    def _anchored(self, flow: str, task: Task) -> Task:
        """A task with what earlier judged documents it is shown."""
        if not isinstance(task, Judge):
            return task
        with self._board.database.reading() as connection:
            return msgspec.structs.replace(task, anchors=judged.anchors_of(connection, flow, version_of(task)))

    def priced(self, name: str, estimate: Estimate) -> Estimated:
        """What requests would cost of a model, by how it was used before."""
        with self._board.database.reading() as connection:
            habits = calls.habits(connection, name)
        characters, again = habits or (TYPICAL, 1.0)
        spec = self._board.specs.get(name)
        seen = sum(min(pages, self._board.models[name].sees) for pages in estimate.pages)
        read = round((estimate.prompt + sized(spec, seen)) / characters * again)
        written = round(estimate.answer / characters * again)
        return Estimated(round(estimate.requests * again, 2), read, written, spec.price(read, written) if spec else Decimal(0))


def _added(one: Estimated, two: Estimated) -> Estimated:
    return Estimated(one.requests + two.requests, one.input_tokens + two.input_tokens, one.output_tokens + two.output_tokens, one.cost + two.cost)
