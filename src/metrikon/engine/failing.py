"""A run that cannot go on is told of once for its cause: by the steps that its flow has for that, and by an intake of kind `failures`."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import Connection

from metrikon.core.flows.failing import Failure
from metrikon.core.flows.fold import in_order
from metrikon.core.flows.state import State
from metrikon.core.flows.walk import FLOW_FAILED
from metrikon.store import failures
from metrikon.store.database import Database
from metrikon.store.journal import Written
from metrikon.store.leases import Claim


def failed_in(state: State, claim: Claim, file_name: str) -> Failure | None:
    """The step that keeps a parked run from going on; None where it waits for a word of a person, and nothing has failed."""
    own = state.flow.head.on_failure is not None
    for path, step in in_order(state):
        if step.status == "parked" and not step.first and step.otherwise is None:
            return Failure(claim.flow, claim.run_id, claim.item_id, path, step.reason, step.failures, item_name=file_name, own=own)
    return None


def told(connection: Connection, state: State, claim: Claim, file_name: str, at: int) -> Written | None:
    """Note why a run is parked. What is to be journaled where its flow has steps for that and its cause is not told yet."""
    failure = failed_in(state, claim, file_name)
    if failure is None or not failures.note(connection, failure, at):
        return None
    if not failure.own or FLOW_FAILED in state.frames:
        return None
    return Written("told", failure.path, {"message": failure.message}, at=at)


class FailuresKept:
    """Failures for good, as an intake sees them."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def last(self) -> int:
        with self._database.reading() as connection:
            return failures.last(connection)

    def after(self, number: int, most: int) -> Sequence[Failure]:
        with self._database.reading() as connection:
            return failures.after(connection, number, most)

    def latest(self, most: int) -> Sequence[Failure]:
        with self._database.reading() as connection:
            return failures.latest(connection, most)
