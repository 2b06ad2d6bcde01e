"""Answers to the questions of runs, and events that are sent to them: each is journaled, and wakes whoever waits for it."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import Connection

from metrikon.core.values.text import clean
from metrikon.engine.catalog import Catalog
from metrikon.engine.engine import Engine
from metrikon.engine.refusing import NotNow, NotThere
from metrikon.ports.clock import Clock
from metrikon.store import events, flows, journal, questions, runs
from metrikon.store.database import Database
from metrikon.store.journal import Written


class BadAnswer(ValueError):
    """An answer that cannot be taken; the message says why."""


class Questions:
    """What people answer, and what is told from outside."""

    def __init__(self, database: Database, catalog: Catalog, clock: Clock, engine: Engine) -> None:
        self._database = database
        self._catalog = catalog
        self._clock = clock
        self._engine = engine

    def answer(self, question_id: str, option: str, who: str, comment: str = "", told: str = "") -> dict[str, Any]:
        """Answer a question; its run goes on. Of two who answer at once one wins, the other is told. `told`: by whom it is kept, where that says more than `who`.

        Raises `NotThere`, `NotNow` when it is answered already, and `BadAnswer`.
        """
        comment, by = clean(comment)[: questions.LONGEST_COMMENT], told or who

        def job(connection: Connection) -> dict[str, Any]:
            question = questions.get(connection, question_id)
            if question is None:
                raise NotThere(f"There is no question {question_id}.")
            if question["state"] != "open":
                before = (
                    f"It was answered by {question['answered_by']}: {question['answer']}." if question["answered_by"] else "It is no longer asked."
                )
                raise NotNow(f"The question is {question['state']}. {before}")
            _fits(question["asked"], option, who, comment)
            now = self._clock.now()
            questions.answer(connection, question_id, option, by, comment, now)
            zone = self._catalog.newest_flow(question["flow"]).zone
            at = datetime.fromtimestamp(now / 1000, zone).isoformat(timespec="seconds")
            asked = question["asked"]
            result = {
                **(asked.get("result") or {}),
                asked.get("answers", "answer"): option,
                "by": by,
                "at": at,
                "comment": comment,
                "question": question_id,
            }
            entry = Written("answered", question["path"], {"decision": "answer", "by": by, "comment": comment, "result": result}, "ask", now)
            journal.append(connection, question["run_id"], [entry])
            runs.wake(connection, [question["run_id"]], now)
            return result

        result: dict[str, Any] = self._database.write(job)
        self._engine.wake()
        return result

    def remind(self) -> int:
        """Bring questions to mind that wait for long; how many."""
        now = self._clock.now()
        with self._database.reading() as connection:
            if not questions.any_due(connection, now):
                return 0
        return len(self._database.write(lambda connection: questions.remind(connection, now)))

    def send(self, flow: str, key: str, data: Any, identity: str | None = None) -> int | None:
        """Send an event to a flow: the runs that wait for it go on; one that comes before anybody waits is kept for whoever waits next.

        How many runs had it; None for one that was sent before under the same identity. Raises `NotThere` and `BadAnswer`.
        """
        if not key or len(key) > events.LONGEST_KEY:
            raise BadAnswer(f"The key of an event has 1 to {events.LONGEST_KEY} characters.")

        def job(connection: Connection) -> int | None:
            if flows.get_flow(connection, flow) is None:
                raise NotThere(flows.no_flow(connection, flow))
            now = self._clock.now()
            event_id = self._clock.new_id()
            waits = events.send(connection, event_id, flow, key, identity or event_id, data, now)
            if waits is None:
                return None
            for run_id, path in waits:
                journal.append(connection, run_id, [Written("came", path, {"data": data, "key": key}, "wait", now)])
            runs.wake(connection, list(dict.fromkeys(run for run, _ in waits)), now)
            return len(waits)

        found: int | None = self._database.write(job)
        self._engine.wake()
        return found


def _fits(asked: dict[str, Any], option: str, by: str, comment: str) -> None:
    """Whether an answer may be given so. Raises `BadAnswer`."""
    if asked["who"] and by not in asked["who"]:
        raise BadAnswer(f"This question is for {', '.join(asked['who'])}.")
    known = {each["name"]: each for each in asked["options"]}
    if option not in known:
        raise BadAnswer(f"There is no option {option!r}. Give one of {', '.join(known)}.")
    if known[option]["comment"] == "wanted" and not comment.strip():
        raise BadAnswer(f"“{known[option]['label']}” wants a comment; say why.")
    if known[option]["comment"] == "none" and comment.strip():
        raise BadAnswer(f"“{known[option]['label']}” takes no comment.")
