"""judge: mark a document against criteria."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Annotated, Any, Literal

from pydantic import Field

from metrikon.core.flows.around import Around
from metrikon.core.flows.form import NAME, Form
from metrikon.core.flows.judging import Judging, check_models, result_of, shown, told_by
from metrikon.core.flows.kind import ANYTHING, Asks, Kind, Said, Schema
from metrikon.core.judging.criteria import Criterion, Mark, Threshold
from metrikon.core.judging.criteria import Judge as Task

Earns = Annotated[str, Field(min_length=1, max_length=300)]
Label = Annotated[str, Field(min_length=1, max_length=60)]


class Measured(Form):
    """One criterion: what is looked at, what earns which mark, and how much it weighs."""

    name: str = Field(..., pattern=NAME, description="What the flow calls it.")
    about: str = Field(..., min_length=1, max_length=1000, description="What is judged, in the builder's own words.")
    marks: dict[int, Earns] = Field(
        ..., min_length=2, max_length=11, description="The scale: each mark with what earns it, such as {0: none named, 1: one season, 2: more}."
    )
    weight: int = Field(1, ge=1, le=100, description="How much it counts in the total.")
    must: bool = Field(False, description="Whether the lowest mark alone decides: the lowest label, whatever the total.")
    sees: list[Literal["name", "sex", "age", "origin", "family", "belief"]] = Field(
        default_factory=list, description="What of a person it needs; else that is taken out of what the model sees."
    )


class Judge(Judging):
    """Mark a document against criteria: a mark and a reason for each, with the words that it rests on; the total and the label are worked out from the marks."""

    criteria: list[Measured] = Field(..., min_length=1, max_length=30, description="The criteria; without them nothing is judged.")
    labels: dict[Label, Annotated[int, Field(ge=0, le=100)]] = Field(
        ...,
        min_length=2,
        max_length=12,
        description="Labels, each with the total in per cent from which it holds, such as {unfit: 0, good: 60, ideal: 85}.",
    )
    blind: bool = Field(
        True, description="Whether names, sex, age, origin, family and belief are taken out of what the model sees, and it is shown no pictures."
    )
    hide: list[Any] = Field(
        default_factory=list, max_length=20, description="Names that are known and are to be taken out, such as ${found.record.name}."
    )
    least: float = Field(0.6, ge=0, le=1, description="How sure every mark must be (0 to 1), or a person must look.")


def task_of(given: Mapping[str, Any]) -> Task:
    """What is to be judged, from filled parameters."""
    criteria = tuple(
        Criterion(
            str(each["name"]),
            str(each["about"]),
            tuple(Mark(int(mark), str(earns)) for mark, earns in sorted(each["marks"].items(), key=lambda pair: int(pair[0]))),
            int(each["weight"]),
            bool(each["must"]),
            tuple(each["sees"]),
        )
        for each in given["criteria"]
    )
    labels = tuple(Threshold(str(label), int(least)) for label, least in sorted(given["labels"].items(), key=lambda pair: int(pair[1])))
    return Task(criteria, labels, tuple(str(each) for each in given["hide"] if each), bool(given["blind"]), float(given["least"]))


def _check(parameters: Judge, around: Around) -> Iterable[Said]:
    yield from check_models(parameters, around)
    names = [each.name for each in parameters.criteria]
    for name in dict.fromkeys(each for each in names if names.count(each) > 1):
        yield "criteria", f"There are two criteria {name!r}; call one otherwise."
    if 0 not in parameters.labels.values():
        yield "labels", "One label must hold from 0, so that every total has one."
    if len(set(parameters.labels.values())) < len(parameters.labels):
        yield "labels", "Two labels hold from the same total; give each its own."


def _result(parameters: Judge, around: Around) -> Schema:
    anything: Schema = {"type": "array", "items": ANYTHING}
    texts: Schema = {"type": "array", "items": {"type": "string"}}
    return result_of(
        outcome={"type": "string", "enum": list(parameters.labels)},
        sure={"type": "number"},
        total={"type": "integer"},
        evidence=ANYTHING,
        marks=anything,
        speaks_for=texts,
        missing=texts,
        to_ask=texts,
        left_out=texts,
        anchors=texts,
    )


def _asks(parameters: Judge) -> Asks:
    given = {name: getattr(parameters, name) for name in ("labels", "hide", "blind", "least")}
    return Asks(
        "",
        parameters.model,
        parameters.context,
        task_of(given | {"criteria": [each.model_dump() for each in parameters.criteria]}),
        parameters.second_reading,
        parameters.calls,
    )


def _tell(parameters: Judge) -> str:
    names = ", ".join(each.name for each in parameters.criteria)
    blind = ", not knowing who it is" if parameters.blind else ""
    return f"Mark {shown(parameters.of)} for {names}{blind}{told_by(parameters)}; then {', '.join(sorted(parameters.labels, key=lambda each: parameters.labels[each]))}."


SAMPLE = """\
judge:
  of: ${paper}
  criteria: [{name: propagation, about: Experience in raising plants., marks: {0: none named, 1: one season, 2: two seasons or more}}]
  labels: {unfit: 0, possible: 40, ideal: 80}
"""
KIND = Kind(
    "judge",
    Judge,
    result=_result,
    check=_check,
    needs=("of",),
    outward=True,
    leaves=True,
    asks=_asks,
    tell=_tell,
    sample=SAMPLE,
)
