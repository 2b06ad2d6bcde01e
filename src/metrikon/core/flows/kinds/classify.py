"""classify: tell what a document is, by labels or by questions."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from pydantic import Field

from metrikon.core.flows.around import Around
from metrikon.core.flows.judging import Judging, Named, check_models, result_of, shown, told_by
from metrikon.core.flows.kind import ANYTHING, Asks, Kind, Said, Schema
from metrikon.core.judging.classify import NONE
from metrikon.core.judging.classify import Classify as Task
from metrikon.core.judging.verdict import Option


class Classify(Judging):
    """Tell what a document is: one label of several, or several yes/no questions of which the first that is true is the outcome; each yes with the words it rests on."""

    labels: list[Named] = Field(default_factory=list, max_length=60, description="The labels, one of which fits.")
    questions: list[Named] = Field(
        default_factory=list, max_length=60, description="Questions, in their order of priority: the first that is true is the outcome."
    )
    otherwise: str = Field(NONE, min_length=1, max_length=60, description="The outcome where no label fits, or no question is true.")
    least: float = Field(0.6, ge=0, le=1, description="How sure the outcome must be (0 to 1), or a person must look.")

    def task(self) -> Task:
        return task_of(
            {name: [each.model_dump() for each in getattr(self, name)] for name in ("labels", "questions")}
            | {"otherwise": self.otherwise, "least": self.least}
        )


def task_of(given: Mapping[str, Any]) -> Task:
    """What is to be told, from filled parameters."""
    options = {name: tuple(Option(str(each["name"]), str(each.get("about") or "")) for each in given[name]) for name in ("labels", "questions")}
    return Task(options["labels"], options["questions"], str(given["otherwise"]), float(given["least"]))


def _check(parameters: Classify, around: Around) -> Iterable[Said]:
    yield from check_models(parameters, around)
    if bool(parameters.labels) == bool(parameters.questions):
        yield "labels", "Give either labels, one of which fits, or questions that are answered yes or no."
    for place in ("labels", "questions"):
        names = [each.name for each in getattr(parameters, place)]
        for name in dict.fromkeys(each for each in names if names.count(each) > 1):
            yield place, f"{name!r} is there twice; call one otherwise."
        if parameters.otherwise in names:
            yield "otherwise", f"{parameters.otherwise!r} is the name of one of them; call what remains otherwise."
    if len(parameters.labels) == 1:
        yield "labels", "One label alone tells nothing; give two, or ask a question."


def _result(parameters: Classify, around: Around) -> Schema:
    names = [each.name for each in (*parameters.labels, *parameters.questions)]
    return result_of(
        outcome={"type": "string", "enum": [*names, parameters.otherwise]},
        sure={"type": "number"},
        evidence=ANYTHING,
        answers={"type": "array", "items": ANYTHING},
    )


def _tell(parameters: Classify) -> str:
    if parameters.labels:
        names = ", ".join(each.name for each in parameters.labels)
        return f"Tell which of {names} {shown(parameters.of)} is, if any{told_by(parameters)}."
    names = ", ".join(each.name for each in parameters.questions)
    return f"Tell of {shown(parameters.of)} the first that is true of {names}{told_by(parameters)}."


SAMPLE = """\
classify: {of: "${paper}", labels: [{name: complaint, about: Somebody complains.}, {name: booking, about: Somebody books a tour.}]}
"""
KIND = Kind(
    "classify",
    Classify,
    result=_result,
    check=_check,
    needs=("of",),
    outward=True,
    leaves=True,
    asks=lambda parameters: Asks("", parameters.model, parameters.context, parameters.task(), parameters.second_reading, parameters.calls),
    tell=_tell,
    sample=SAMPLE,
)
