"""The record of every call of a model; good answers in it are given again to the same request."""

from __future__ import annotations

import zlib
from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Any

from sqlalchemy import Connection, bindparam, func, insert, select, update

from metrikon.core.values.exact import loads
from metrikon.store.hot import Hot
from metrikon.store.tables import calls

_PUT = Hot(insert(calls).values({column.name: bindparam(column.name) for column in calls.columns}))
_KEPT = Hot(
    select(calls.c.id, calls.c.answer)
    .where(calls.c.request == bindparam("of"), calls.c.at >= bindparam("since"), calls.c.outcome == "good", calls.c.answer.is_not(None))
    .order_by(calls.c.id.desc())
    .limit(1)
)
_SHOWN = [column for column in calls.columns if column.name not in ("prompt", "answer")]


def packed(json: bytes) -> bytes:
    """A prompt or an answer, in JSON, as it is stored."""
    return zlib.compress(json, 1)


def put(connection: Connection, rows: Sequence[Mapping[str, Any]]) -> None:
    """Keep what calls came to."""
    if rows:
        _PUT.many(connection, rows)


def kept(connection: Connection, request: str, since: int = 0) -> tuple[str, Any] | None:
    """(call, answer) of the latest good answer to a request, given since a moment."""
    rows = _KEPT.run(connection, {"of": request, "since": since})
    return (str(rows[0][0]), loads(zlib.decompress(rows[0][1]))) if rows else None


def reject(connection: Connection, ids: Sequence[str]) -> None:
    """Mark answers that were no good, so that they are never given again."""
    if ids:
        connection.execute(update(calls).where(calls.c.id.in_(ids)).values(outcome="rejected"))


def reject_run(connection: Connection, run_id: str) -> None:
    """The same for all answers of a run, and those that were given again in it."""
    requests = select(calls.c.request).where(calls.c.run_id == run_id)
    connection.execute(update(calls).where(calls.c.request.in_(requests), calls.c.outcome == "good").values(outcome="rejected"))


def of_run(connection: Connection, run_id: str) -> list[dict[str, Any]]:
    """The calls of a run, oldest first, without what was asked and answered."""
    return [dict(row) for row in connection.execute(select(*_SHOWN).where(calls.c.run_id == run_id).order_by(calls.c.id)).mappings()]


def get(connection: Connection, call_id: str) -> dict[str, Any] | None:
    """A call with what was asked and answered, as far as they are still kept."""
    row = connection.execute(select(calls).where(calls.c.id == call_id)).mappings().first()
    if row is None:
        return None
    whole = dict(row)
    for name in ("prompt", "answer"):
        whole[name] = loads(zlib.decompress(row[name])) if row[name] is not None else None
    return whole


def spent_since(connection: Connection, since: int, flow: str | None = None) -> Decimal:
    """What all calls since a time cost, of one flow or of all."""
    query = select(calls.c.cost).where(calls.c.at >= since, calls.c.cost != "0")
    query = query.where(calls.c.flow == flow) if flow is not None else query
    return sum((Decimal(cost) for cost in connection.execute(query).scalars()), Decimal(0))


def spent_in_run(connection: Connection, run_id: str) -> Decimal:
    """What the calls of a run cost."""
    return sum((Decimal(cost) for cost in connection.execute(select(calls.c.cost).where(calls.c.run_id == run_id)).scalars()), Decimal(0))


def by_day(connection: Connection, since: int, day: int = 86_400_000) -> list[tuple[int, str, Decimal, int]]:
    """(start of the day in UTC, flow, cost, calls) for every day and flow with calls since a time."""
    start = calls.c.at - calls.c.at % day
    found: dict[tuple[int, str], tuple[Decimal, int]] = {}
    for at, flow, cost in connection.execute(select(start, calls.c.flow, calls.c.cost).where(calls.c.at >= since)):
        before = found.get((at, flow), (Decimal(0), 0))
        found[at, flow] = (before[0] + Decimal(cost), before[1] + 1)
    return [(at, flow, cost, count) for (at, flow), (cost, count) in sorted(found.items())]


def habits(connection: Connection, model: str, most: int = 500) -> tuple[float, float] | None:
    """(characters of a prompt for one token, requests for one first request) of a model's latest calls; None without any."""
    query = select(calls.c.prompt_size, calls.c.input_tokens, calls.c.stage, calls.c.tries)
    query = query.where(calls.c.model == model, calls.c.outcome.in_(("good", "rejected")), calls.c.input_tokens > 0).order_by(calls.c.id.desc())
    rows = connection.execute(query.limit(most)).all()
    first = sum(1 for row in rows if row.stage == "ask")
    if not first:
        return None
    return sum(row.prompt_size for row in rows) / sum(row.input_tokens for row in rows), len(rows) / first


def forget(connection: Connection, before: int) -> int:
    """Forget what was asked and answered before a time; what it cost is kept."""
    gone = update(calls).where(calls.c.at < before, calls.c.prompt.is_not(None)).values(prompt=None, answer=None)
    return int(connection.execute(gone).rowcount)


def count_asked(connection: Connection, before: int) -> int:
    """How many calls of before a time are kept with what was asked and answered."""
    return int(connection.execute(select(func.count()).where(calls.c.at < before, calls.c.prompt.is_not(None))).scalar_one())
