"""What every step that judges does: ask, settle, and put a question at the desk where a person must look."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.asking import Asking
from metrikon.core.judging.matter import NotJudged, set_out
from metrikon.core.judging.tasks import Task
from metrikon.core.records import findings
from metrikon.drivers.judge import JudgesNothing, judge
from metrikon.drivers.paper import LocalPaper
from metrikon.ports.model import STAND_IN
from metrikon.ports.paper import Paper
from metrikon.ports.step import Call, Made, Outcome, StepFailed, Transaction, Workshop
from metrikon.steps.failing import FAILURES, failure
from metrikon.steps.several import one_of
from metrikon.store import questions

Keep = Callable[[Transaction, Mapping[str, Any], int], None]  # a result and when it came, within the commit of the step
THOUGHT = ("outcome", "sure", "evidence")  # of what a model said, kept where a person decided


def judged(call: Call, workshop: Workshop, task: Task, answers: Sequence[str], asked: str, keep: Keep | None = None) -> Outcome:
    """What a document comes to. Where a person must look, `asked` is put to them; one of `answers` is then the outcome. `keep`: what is kept besides."""
    given = call.parameters
    try:
        model = workshop.model(given.get("model"), call)
        other = given.get("second_reading")
        second = workshop.model(str(other), call) if other else None
    except KeyError as error:
        raise StepFailed(f"{error.args[0]} Correct the flow, then continue.") from error
    asking = Asking(call.today, str(given.get("context") or ""), model.room, second=second is not None)
    try:
        found = judge(model, task, paper_of(given["of"], given.get("only"), call.flow, workshop), asking, second, int(given["calls"]), model.reject)
    except JudgesNothing as error:
        raise StepFailed(
            "The pattern reader judges nothing. Set up a language model (models.yaml), or name one under `model`, then continue."
        ) from error
    except FAILURES as error:
        for each in (model, second):
            if each is not None:
                each.keep()
        raise failure(error, call) from error
    result = {
        **found.verdict.result,
        "findings": findings.as_json(list(found.verdict.findings)),
        "needs_person": found.needs_person,
        "model": found.model,
        "stand_in": STAND_IN in found.model.split(" and "),
        "usage": found.usage.as_json(),
        "asked": found.asked,
        "document": document_in(given["of"]) or "",
        "by": "",
    }
    question = workshop.new_id()
    why = next((each.message for each in found.verdict.findings if each.level == "stop"), "")

    def commit(connection: Transaction, at: int) -> Made:
        for each in (model, second):
            if each is not None:
                each.commit(connection)
        if keep is not None:
            keep(connection, result, at)
        if not found.needs_person or given["unsure"] != "ask":
            return Made("done", {"result": result})
        questions.put(connection, question, call.run_id, call.item_id, call.flow, call.path, _put(asked, answers, result, why), at)
        return Made("asked", {"result": {**result, "question": question}}, why)

    return Outcome(commit=commit, usage=found.usage)


def paper_of(given: Any, only: Any, flow: str, workshop: Workshop) -> Paper:
    """What is judged, put before it: a document that was read or one of several within it, or a text or record set out as one. Raises `StepFailed`."""
    sha256 = document_in(given)
    if sha256 is not None:
        return workshop.paper(sha256, flow, one_of(only))
    try:
        return LocalPaper(Index(set_out(record_in(given))))
    except NotJudged as error:
        raise StepFailed(str(error)) from error


def document_in(given: Any) -> str | None:
    """The hash of the document in the result of a read step; None for anything else."""
    sha256 = given.get("document") if isinstance(given, Mapping) else None
    return sha256 if isinstance(sha256, str) and "pages" in given else None


def record_in(given: Any) -> Any:
    """The record in the result of an extract or check step; anything else as it is."""
    return given["record"] if isinstance(given, Mapping) and isinstance(given.get("record"), Mapping) else given


def _put(asked: str, answers: Sequence[str], result: Mapping[str, Any], why: str) -> dict[str, Any]:
    """A question for a person: why it is put, what was thought, and the answers that there may be."""
    evidence = result.get("evidence") or {}
    thought = f"{result.get('outcome', '')} ({round(100 * float(result.get('sure') or 0))} % sure)" if result.get("outcome") else "nothing"
    besides = {"Its words": f"page {evidence['page']}: {evidence['quote']}"} if evidence.get("quote") else {}
    besides |= {"The text": result["text"]} if result.get("text") else {}
    return {
        "question": asked,
        "options": [{"name": each, "label": each, "comment": "welcome"} for each in answers],
        "show": {"Why it is asked": why, "The model thought": thought, **besides},
        "who": [],
        "default": None,
        "evidence": {},
        "result": {**result, "sure": 1, "needs_person": False, "evidence": None, "thought": {name: result.get(name) for name in THOUGHT}},
        "answers": "outcome",
    }
