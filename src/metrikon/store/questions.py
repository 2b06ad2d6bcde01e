"""Questions that runs put to people, and what was answered."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import Connection, insert, select, update

from metrikon.core.values.exact import dumps, loads
from metrikon.store import changes
from metrikon.store.tables import items, questions

LONGEST_COMMENT = 4000  # characters


def put(
    connection: Connection, question_id: str, run_id: str, item_id: str, flow: str, path: str, asked: Mapping[str, Any], at: int, remind: int = 0
) -> None:
    """Keep a question; one that the same step has asked before is closed. `remind`: milliseconds after which it is brought to mind; 0: never."""
    close(connection, run_id, path, at)
    row = {
        "id": question_id,
        "run_id": run_id,
        "item_id": item_id,
        "flow": flow,
        "path": path,
        "asked": dumps(asked),
        "state": "open",
        "asked_at": at,
        "remind_at": at + remind if remind else None,
    }
    connection.execute(insert(questions).values(row))
    changes.note(connection, "question", [question_id], at)


def get(connection: Connection, question_id: str) -> dict[str, Any] | None:
    """A question with the name of its item."""
    return next(iter(_shown(connection, questions.c.id == question_id, 1)), None)


def listed(connection: Connection, state: str | None = "open", most: int = 200) -> list[dict[str, Any]]:
    """Questions in a state, the oldest first."""
    return _shown(connection, questions.c.state == state if state else questions.c.id.is_not(None), most)


def of_run(connection: Connection, run_id: str) -> list[dict[str, Any]]:
    """The questions of a run, in order."""
    return _shown(connection, questions.c.run_id == run_id, 500)


def _shown(connection: Connection, condition: Any, most: int) -> list[dict[str, Any]]:
    query = select(questions, items.c.name.label("item_name")).join(items, items.c.id == questions.c.item_id).where(condition)
    rows = connection.execute(query.order_by(questions.c.id).limit(most)).mappings()
    return [{**row, "asked": loads(row["asked"])} for row in rows]


def any_due(connection: Connection, now: int) -> bool:
    """Whether a question is to be brought to mind."""
    due = select(questions.c.id).where(questions.c.state == "open", questions.c.remind_at <= now).limit(1)
    return connection.execute(due).first() is not None


def remind(connection: Connection, now: int) -> list[str]:
    """Bring to mind what is due, again and again until it is answered; the ids of the questions."""
    due = select(questions.c.id, questions.c.asked_at, questions.c.remind_at, questions.c.reminded).where(
        questions.c.state == "open", questions.c.remind_at <= now
    )
    found = connection.execute(due).all()
    for row in found:
        every = max(1, (row.remind_at - row.asked_at) // (row.reminded + 1))
        times = row.reminded + 1 + (now - row.remind_at) // every  # those of a time that nobody was at work count, too
        again = update(questions).where(questions.c.id == row.id)
        connection.execute(again.values(reminded=times, remind_at=row.asked_at + every * (times + 1)))
    ids = [str(row.id) for row in found]
    changes.note(connection, "question", ids, now)
    return ids


def answer(connection: Connection, question_id: str, option: str, by: str, comment: str, at: int) -> bool:
    """Keep an answer; False when the question is not open any more."""
    values = {"state": "answered", "answered_at": at, "answer": option, "answered_by": by, "comment": comment}
    changed = connection.execute(update(questions).where(questions.c.id == question_id, questions.c.state == "open").values(values)).rowcount
    changes.note(connection, "question", [question_id], at)
    return bool(changed)


def close(connection: Connection, run_id: str, path: str | None, at: int) -> None:
    """The open questions of a run, or of one of its steps, are no longer asked."""
    condition = (questions.c.run_id == run_id) & (questions.c.state == "open")
    if path is not None:
        condition &= questions.c.path == path
    connection.execute(update(questions).where(condition).values(state="closed", answered_at=at))
