"""ask: put a question to a person, and wait for the answer."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from metrikon.core.feel import BadExpression, parse
from metrikon.core.feel.holes import expressions
from metrikon.core.feel.inferring import path_of
from metrikon.core.flows.form import seconds_of
from metrikon.ports.step import Call, Made, Outcome, Transaction, Workshop
from metrikon.store import questions, records


def run(call: Call, workshop: Workshop) -> Outcome:
    """The question, kept until it is answered, with where the values shown beside it stand."""
    question_id = workshop.new_id()
    given = call.parameters
    remind = int(seconds_of(given["remind"]) * 1000) if given["remind"] is not None else 0

    def commit(connection: Transaction, at: int) -> Made:
        asked = {each: given[each] for each in ("question", "options", "show", "who", "default")}
        asked["evidence"] = {label: found for label, hole in call.said.show.items() if (found := _stands(connection, hole, call.scope))}
        questions.put(connection, question_id, call.run_id, call.item_id, call.flow, call.path, asked, at, remind)
        return Made("asked", {"result": {"question": question_id}}, str(given["question"]))

    return Outcome(commit=commit)


def _stands(connection: Transaction, hole: Any, scope: Mapping[str, Any]) -> dict[str, Any] | None:
    """Where a value stands in a document, when it is one of a record, such as ${checked.record.total}."""
    try:
        found = [text for _, text in expressions(hole)] if isinstance(hole, str) else []
        path = path_of(parse(found[0])) if len(found) == 1 and hole.strip() == f"${{{found[0]}}}" else None
    except BadExpression:
        return None
    if path is None or len(path) < 3 or path[1] != "record" or not isinstance(scope.get(path[0]), Mapping):
        return None
    record_id, pointer = str(scope[path[0]].get("id")), "/" + "/".join(path[2:])
    told = records.evidence_of(connection, record_id).get(pointer)
    if not told or not told.get("page"):
        return None
    return {"record": record_id, "pointer": pointer, "page": told["page"], "quote": told.get("quote", ""), "how": told["how"]}
