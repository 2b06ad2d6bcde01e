"""Trials as stored: what is tried, how far it has come, and what each document came to."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import Connection, func, insert, select, update
from sqlalchemy.dialects.sqlite import insert as upsert

from metrikon.core.values.exact import dumps, loads
from metrikon.store.tables import records, trial_results, trials

MOST = 5000  # reviewed records of one trial


def put(connection: Connection, row: Mapping[str, Any]) -> None:
    """Keep a new trial."""
    connection.execute(insert(trials).values(dict(row)))


def change(connection: Connection, trial_id: str, **columns: Any) -> None:
    """Change columns of a trial."""
    connection.execute(update(trials).where(trials.c.id == trial_id).values(columns))


def get(connection: Connection, trial_id: str) -> dict[str, Any] | None:
    """A trial with how many documents are done, or None."""
    row = connection.execute(select(trials).where(trials.c.id == trial_id)).mappings().first()
    return {**row, "done": done(connection, trial_id)} if row else None


def listed(connection: Connection, most: int = 100) -> list[dict[str, Any]]:
    """Trials, newest first."""
    rows = connection.execute(select(trials).order_by(trials.c.id.desc()).limit(most)).mappings().all()
    return [{**row, "done": done(connection, row["id"])} for row in rows]


def done(connection: Connection, trial_id: str) -> int:
    """How many documents of a trial are done."""
    return int(connection.execute(select(func.count()).select_from(trial_results).where(trial_results.c.trial_id == trial_id)).scalar_one())


def put_result(connection: Connection, trial_id: str, record_id: str, result: Mapping[str, Any]) -> None:
    """Keep what a document came to; once."""
    row = {"trial_id": trial_id, "record_id": record_id, "result": dumps(result)}
    connection.execute(upsert(trial_results).values(row).on_conflict_do_nothing())


def results(connection: Connection, trial_id: str) -> dict[str, dict[str, Any]]:
    """What the documents of a trial came to, by record."""
    rows = connection.execute(
        select(trial_results.c.record_id, trial_results.c.result).where(trial_results.c.trial_id == trial_id).order_by(trial_results.c.record_id)
    )
    return {str(record): dict(loads(result)) for record, result in rows}


def interrupted(connection: Connection) -> None:
    """Trials that ran when the service ended are stopped; they can go on."""
    connection.execute(update(trials).where(trials.c.state == "running").values(state="stopped"))


def reviewed(connection: Connection, record_type: str, most: int) -> list[dict[str, Any]]:
    """Records of a type that a person has approved, newest first: id, document, values, title."""
    query = select(records.c.id, records.c.document, records.c["values"], records.c.title)
    query = (
        query.where(records.c.record_type == record_type, records.c.state == "approved").order_by(records.c.id.desc()).limit(min(most or MOST, MOST))
    )
    return [{"id": row.id, "document": row.document, "values": loads(row[2]), "title": row.title} for row in connection.execute(query)]


def weekly(connection: Connection, flow: str | None, record_type: str | None, since: int, week: int = 604_800_000) -> list[tuple[int, bytes, bytes]]:
    """(start of the week, values, evidence) of the records read since a time, of one flow or type or of all, as JSON."""
    from metrikon.store.tables import runs

    start = records.c.created_at - (records.c.created_at - 345_600_000) % week  # weeks begin on Mondays (UTC)
    query = select(start, records.c.as_read, records.c.evidence).where(records.c.created_at >= since)
    if record_type:
        query = query.where(records.c.record_type == record_type)
    if flow:
        query = query.join(runs, runs.c.id == records.c.run_id).where(runs.c.flow == flow)
    return [(int(row[0]), row[1], row[2]) for row in connection.execute(query.order_by(records.c.id))]
