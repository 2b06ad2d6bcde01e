"""What is there now of rows that may have been written: looked for again when a person is to say whether they were."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from metrikon.connections.fetching import FetchFailed
from metrikon.core.flows.model import Said
from metrikon.engine.catalog import Catalog
from metrikon.engine.refusing import NotThere
from metrikon.ports.destination import Broken, Busy, Comparable, Destination
from metrikon.store import deliveries, runs
from metrikon.store.database import Database
from metrikon.store.deliveries import Delivery

log = logging.getLogger("metrikon.engine")
ROWS, LOOKED, ALIKE = 500, 5, 10  # rows that are told, those of them that are looked for, and most of what is like one
MOST_OF_A_RUN = 100_000  # rows of a run among which those are that nobody can tell of
NOT_LOOKED = f"Only the first {LOOKED} are looked for."
CANNOT = "Nothing there can be looked for from here. Open it, and look for what we sent."


@dataclass(frozen=True)
class ThereNow:
    """A row that may have been written, and what its destination holds that is like it: None with the reason `why` where that cannot be looked for."""

    to: str
    sent: Mapping[str, Any]
    found: Sequence[Mapping[str, Any]] | None = None
    why: str = ""


class LookingThere:
    """Looks into destinations on behalf of people. `build` makes the adapter of a destination as a flow names it."""

    def __init__(self, database: Database, catalog: Catalog, build: Callable[[Said], Destination]) -> None:
        self._database, self._catalog, self._build = database, catalog, build

    def of(self, run_id: str) -> list[ThereNow]:
        """The rows of a run of which nobody can tell. Raises `NotThere` for a run that is not there."""
        with self._database.reading() as connection:
            if runs.get(connection, run_id) is None:
                raise NotThere(f"There is no run {run_id}.")
            rows = [row for row in deliveries.of_run(connection, run_id, MOST_OF_A_RUN) if row.state in ("unsure", "otherwise")]
        return list(self._looked(rows[:ROWS]))

    def _looked(self, rows: list[Delivery]) -> Iterator[ThereNow]:
        for number, row in enumerate(rows):
            to, sent = row.target, row.values
            if number >= LOOKED:
                yield ThereNow(to, sent, why=NOT_LOOKED)
                continue
            try:
                adapter = self._build(self._catalog.flow(row.flow, row.flow_version).destinations[to])
                found = adapter.like(sent, ALIKE) if isinstance(adapter, Comparable) else None
                yield ThereNow(to, sent, found, "" if found is not None else CANNOT)
            except (Busy, Broken, FetchFailed) as error:
                yield ThereNow(to, sent, why=str(error))
            except Exception as error:  # whatever a destination of another package raises: it is told
                log.exception("rows of %s could not be looked for", to)
                yield ThereNow(to, sent, why=f"It could not be looked for: {type(error).__name__}. It is in the service's log.")
