"""A parked run goes on as a new one on the newest version of its flow: results of steps that are the same are taken over."""

from __future__ import annotations

from sqlalchemy import Connection

from metrikon.core.flows.differences import same_steps
from metrikon.engine.again import taken
from metrikon.engine.answers import Answers
from metrikon.engine.catalog import Catalog
from metrikon.engine.engine import Engine
from metrikon.engine.refusing import NotNow, NotThere
from metrikon.ports.clock import Clock
from metrikon.store import flows, items, journal, runs
from metrikon.store.database import Database
from metrikon.store.journal import Written


class Moving:
    """Moves parked runs to newer versions of their flows."""

    def __init__(self, database: Database, catalog: Catalog, clock: Clock, answers: Answers, engine: Engine) -> None:
        self._database, self._catalog, self._clock, self._answers, self._engine = database, catalog, clock, answers, engine

    def move(self, run_id: str, by: str) -> str:
        """The new run. Raises `NotThere`, and `NotNow` for a run that is not parked or whose flow has no newer version."""
        found = self._database.write(lambda connection: self._move(connection, run_id, by))
        self._engine.wake()
        return found

    def _move(self, connection: Connection, run_id: str, by: str) -> str:
        run = runs.get(connection, run_id)
        if run is None:
            raise NotThere(f"There is no run {run_id}.")
        name, before = str(run["flow"]), int(run["flow_version"])
        if run["state"] != "parked":
            raise NotNow(f"The run is {run['state']}; only a parked one goes on as another.")
        standing = flows.standing(connection, name)
        version = standing[0] if standing else before
        if version == before:
            raise NotNow(f"The flow {name} has no newer version than the {version} that the run is on. Correct the flow first, or continue the run.")
        newer = self._catalog.flow(name, version)
        same = same_steps(self._catalog.flow(name, before), newer)
        entries = [entry for _, entry in journal.load(connection, run_id)]
        fresh, now = self._clock.new_id(), self._clock.now()
        self._answers.end(connection, run_id, by, f"It goes on as run {fresh} on version {version} of the flow; what is the same was taken over.")
        items.start_run(connection, fresh, run["item_id"], name, version, now)
        runs.begun_before(connection, fresh)
        first = entries[0]
        kept = [Written(each.event, each.path, each.data, "", each.at) for each in taken(entries, same)]
        told = {"run": {**first.data["run"], "id": fresh, "flow": f"{name} {version}"}, "versions": self._catalog.versions_in(newer)}
        journal.append(connection, fresh, [Written("started", "", {**first.data, **told}, at=first.at), *kept])
        return fresh
