"""Trials in the service: reviewed records read again by a model, each set against what a person approved.

Every document is kept when it is done, so that a trial that was stopped, or whose service was
killed, goes on where it was. Answers of models that were given before are given again at no cost.
"""

from __future__ import annotations

import threading
from datetime import UTC, datetime
from typing import Any

from metrikon.drivers.trial import Sample, Way, tried
from metrikon.engine.background import Background
from metrikon.engine.calling import Switchboard
from metrikon.engine.catalog import Catalog
from metrikon.engine.workshop import EngineWorkshop
from metrikon.ports.clock import Clock
from metrikon.store import trials
from metrikon.store.database import Database


class Trials:
    """Runs trials. `default`: the model where none is named."""

    def __init__(
        self, database: Database, workshop: EngineWorkshop, catalog: Catalog, board: Switchboard, clock: Clock, default: str, background: Background
    ) -> None:
        self.database, self.workshop, self.catalog, self.board, self.clock, self.default = database, workshop, catalog, board, clock, default
        self.background = background
        database.write(trials.interrupted)

    def begin(self, record_type: str, model: str = "", context: str = "", most: int = 0) -> str:
        """Start a trial over the approved records of a type; its id. Raises `KeyError` for an unknown type or model."""
        _, version = self.catalog.record_type(record_type)
        name = model or self.default
        if name not in self.board.models:
            raise KeyError(f"There is no model {name!r}. Known: {', '.join(self.board.models)}.")
        with self.database.reading() as connection:
            count = len(trials.reviewed(connection, record_type, most))
        row: dict[str, Any] = {
            "id": self.clock.new_id(),
            "record_type": record_type,
            "type_version": version,
            "model": name,
            "context": context,
            "count": count,
            "state": "running",
            "problem": "",
            "created_at": self.clock.now(),
        }
        self.database.write(lambda connection: trials.put(connection, row))
        self._run(row)
        return str(row["id"])

    def go_on(self, row: dict[str, Any]) -> None:
        """Go on with a trial that was stopped or failed."""
        self.database.write(lambda connection: trials.change(connection, row["id"], state="running", problem=""))
        self._run(row)

    def _run(self, row: dict[str, Any]) -> None:
        def ended(state: str, problem: str) -> None:
            self.database.write(lambda connection: trials.change(connection, row["id"], state=state, problem=problem))

        self.background.start(row["id"], lambda stop: self._documents(row, stop), ended)

    def _documents(self, row: dict[str, Any], stop: threading.Event) -> bool:
        """Try every document that is not done; whether it came to the end."""
        kind, _ = self.catalog.record_type(row["record_type"])
        with self.database.reading() as connection:
            before = set(trials.results(connection, row["id"]))
            wanted = trials.reviewed(connection, row["record_type"], row["count"])
        today = datetime.fromtimestamp(self.clock.now() / 1000, UTC).date().isoformat()
        for each in wanted:
            if stop.is_set():
                return False
            if each["id"] in before:
                continue
            model = self.board.bound(row["model"], "", row["id"])
            sample = Sample(each["title"] or each["id"], each["document"], each["values"])
            try:
                result = tried(sample, Way(kind, model, row["context"]), lambda one: self.workshop.paper(one.sha256), today).as_json()
            finally:
                model.keep()
            self.database.write(lambda connection, each=each, result=result: trials.put_result(connection, row["id"], each["id"], result))  # type: ignore[misc]
        return True
