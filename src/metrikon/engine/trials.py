"""Trials in the service: reviewed records read again by a model, each set against what a person approved.

One at a time, in a thread of its own; every document is kept when it is done, so that a trial that was stopped, or whose service was
killed, goes on where it was. Answers of models that were given before are given again at no cost.
"""

from __future__ import annotations

import logging
import threading
from datetime import UTC, datetime
from typing import Any

from metrikon.drivers.trial import Sample, Way, tried
from metrikon.engine.calling import Switchboard
from metrikon.engine.catalog import Catalog
from metrikon.engine.workshop import EngineWorkshop
from metrikon.ports.clock import Clock
from metrikon.ports.model import ModelDown, OverLimit
from metrikon.store import trials
from metrikon.store.database import Database

log = logging.getLogger("metrikon.trials")


class Trials:
    """Runs trials. `default`: the model where none is named."""

    def __init__(self, database: Database, workshop: EngineWorkshop, catalog: Catalog, board: Switchboard, clock: Clock, default: str) -> None:
        self.database, self.workshop, self.catalog, self.board, self.clock, self.default = database, workshop, catalog, board, clock, default
        self._stops: dict[str, threading.Event] = {}
        self._threads: list[threading.Thread] = []
        self._one = threading.Lock()
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

    def stop(self, trial_id: str) -> None:
        """Stop a trial after the document it is at."""
        if trial_id in self._stops:
            self._stops[trial_id].set()

    def go_on(self, row: dict[str, Any]) -> None:
        """Go on with a trial that was stopped or failed."""
        self.database.write(lambda connection: trials.change(connection, row["id"], state="running", problem=""))
        self._run(row)

    def close(self) -> None:
        """Stop all trials and wait for the documents they are at."""
        for stop in self._stops.values():
            stop.set()
        for thread in self._threads:
            thread.join(30)

    def _run(self, row: dict[str, Any]) -> None:
        stop = self._stops[row["id"]] = threading.Event()
        thread = threading.Thread(target=self._work, args=(row, stop), name=f"trial {row['id']}", daemon=True)
        self._threads.append(thread)
        thread.start()

    def _work(self, row: dict[str, Any], stop: threading.Event) -> None:
        state, problem = "done", ""
        try:
            with self._one:
                if not self._documents(row, stop):
                    state = "stopped"
        except (ModelDown, OverLimit) as error:
            state, problem = "failed", str(error)
        except Exception as error:
            log.exception("trial %s", row["id"])
            state, problem = "failed", f"An error of the service ended it: {type(error).__name__}. The log has the rest; going on may help."
        self.database.write(lambda connection: trials.change(connection, row["id"], state=state, problem=problem))

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
