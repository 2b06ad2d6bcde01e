"""The columns of destinations as they really are, looked at when a flow is kept or mapped; a place that does not answer keeps nobody from keeping a flow."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from concurrent.futures import TimeoutError as NotYet
from dataclasses import dataclass

from metrikon.connections.fetching import FetchFailed
from metrikon.core.flows import mapping
from metrikon.core.flows.kind import Known
from metrikon.core.flows.mapping import Columns, Head
from metrikon.core.flows.model import Flow, Said
from metrikon.core.flows.problems import Problem
from metrikon.core.values.near import meant
from metrikon.ports.clock import Clock
from metrikon.ports.destination import Broken, Busy, Destination, Headed, Named, Unusable

log = logging.getLogger("metrikon.engine")
FRESH, PATIENCE, AT_ONCE = 10_000, 4.0, 4  # milliseconds for which a look is good, seconds that is waited for one, looks at once


@dataclass(frozen=True)
class Looked:
    """What a look at a destination found: its columns, None where it is made with its first row; or why that cannot be told."""

    columns: Columns | None = None
    why: str = ""
    unusable: bool = False  # it takes no row at all, until somebody has mended it or the flow


class ColumnsOf:
    """Looks at destinations."""

    def __init__(
        self, build: Callable[[Said], Destination], names: Callable[[Said], Sequence[Named]], known: Callable[[], Known], clock: Clock
    ) -> None:
        self._build, self._names, self._known_now, self._clock = build, names, known, clock
        self._looked: dict[str, tuple[int, Future[Looked]]] = {}
        self._lock = threading.Lock()
        self._looks = ThreadPoolExecutor(AT_ONCE, "columns")

    def problems(self, flow: Flow) -> list[Problem]:
        """What of the mapping of a flow does not fit the columns as they are, and columns that its destinations name and that are not there."""
        known = self._known_now()
        return [*mapping.misfits(flow, known, lambda name: self.of(flow, name).columns), *self._unknown(flow, known)]

    def _unknown(self, flow: Flow, known: Known) -> Iterator[Problem]:
        for name, said in flow.destinations.items():
            named = self._names(said)
            columns = self.of(flow, name).columns if named else None
            coming = [Head(each) for step in mapping.mapped(flow, known) if step.destination == name for each in step.columns]
            for one in named:
                there = (*(columns.heads if columns is not None else ()), *(coming if one.may_come or columns is None else ()))
                if (columns is not None or coming) and Columns(there).of(one.column) is None:
                    heads = [each.name for each in there]
                    told = f"{name} has no column {one.column!r}{meant(one.column, heads)} It has: {', '.join(heads[:40])}."
                    where = (*said.where, *one.where)
                    yield Problem("", "/".join(map(str, where)), told, where)

    def of(self, flow: Flow, name: str) -> Looked:
        """The columns of a destination of a flow."""
        said = flow.destinations.get(name)
        if said is None:
            return Looked(why=f"There is no destination {name!r} in this flow.")
        try:
            return self._look(said).result(PATIENCE)
        except NotYet:
            return Looked(why=f"{name} did not answer within {PATIENCE:g} seconds.")

    def _look(self, said: Said) -> Future[Looked]:
        named = f"{said.kind} {said.form!r}"
        with self._lock:
            kept = self._looked.get(named)
            if kept is not None and (not kept[1].done() or self._clock.now() - kept[0] < FRESH):
                return kept[1]
            for old in [each for each, (at, found) in self._looked.items() if found.done() and self._clock.now() - at >= FRESH]:
                del self._looked[old]
            found = self._looks.submit(self._columns, said)
            self._looked[named] = (self._clock.now(), found)
            return found

    def _columns(self, said: Said) -> Looked:
        try:
            made = self._build(said)
            if not isinstance(made, Headed):
                return Looked(why=f"A destination of kind {said.kind} has no columns of its own.")
            heads = made.heads()
            return Looked(
                Columns(tuple(heads), made.grows) if heads is not None else None, "" if heads is not None else "It is made with its first row."
            )
        except Unusable as error:
            return Looked(why=str(error), unusable=True)
        except (Busy, Broken, FetchFailed) as error:
            return Looked(why=str(error))
        except Exception as error:  # whatever a destination of another package raises: it is told, and keeps nobody from keeping a flow
            log.exception("the columns of a destination of kind %s", said.kind)
            return Looked(why=f"Its columns could not be looked at: {type(error).__name__}. It is in the service's log.")

    def close(self) -> None:
        """Look no more."""
        self._looks.shutdown(wait=False, cancel_futures=True)
