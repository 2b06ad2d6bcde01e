"""ask: put a question to a person, and wait for the answer."""

from __future__ import annotations

from metrikon.ports.step import Call, Made, Outcome, Transaction, Workshop
from metrikon.store import questions


def run(call: Call, workshop: Workshop) -> Outcome:
    """The question, kept until it is answered."""
    question_id = workshop.new_id()
    given = call.parameters

    def commit(connection: Transaction, at: int) -> Made:
        asked = {each: given[each] for each in ("question", "options", "show", "who", "default")}
        questions.put(connection, question_id, call.run_id, call.item_id, call.flow, call.path, asked, at)
        return Made("asked", {"result": {"question": question_id}}, str(given["question"]))

    return Outcome(commit=commit)
