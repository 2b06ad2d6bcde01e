"""Runs that are used by steps of other runs: what becomes of one is told to the other."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection

from metrikon.store import events, journal, questions, runs
from metrikon.store.journal import Written


def told_user(connection: Connection, user: str, path: str, run_id: str, outcome: str, reason: str, result: Any, now: int) -> None:
    """A run that another one uses has settled: the step that uses it is done, or has failed when it was refused."""
    if outcome == "refused":
        data: dict[str, Any] = {"message": f"The flow that it uses refused the item: {reason}", "again": False, "run": run_id, "at": now}
        written = Written("failed", path, data, "use", now)
    else:
        written = Written("done", path, {"result": {"run": run_id, "outcome": outcome, "reason": reason, "result": result}}, "use", now)
    journal.append(connection, user, [written])
    runs.wake(connection, [user], now)


def end_used(connection: Connection, run_id: str, now: int) -> None:
    """A run ends: so do those that its steps use."""
    for used in runs.using(connection, run_id):
        reason = "The run that uses it has ended."
        journal.append(connection, used, [Written("cancelled", "", {"by": "", "reason": reason}, at=now)])
        questions.close(connection, used, None, now)
        events.unheard(connection, used)
        end_used(connection, used, now)
        runs.move(connection, used, "stopped", now, reason)
