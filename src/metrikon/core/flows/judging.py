"""What the kinds of step that judge have in common: what they judge, by which model, and what becomes of what is not sure."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, Literal

from pydantic import Field

from metrikon.core.flows.around import Around, closed
from metrikon.core.flows.form import NAME, Form
from metrikon.core.flows.kind import ANYTHING, Said, Schema
from metrikon.core.flows.words import shown
from metrikon.core.judging.tasks import Task
from metrikon.core.values.near import meant

PATTERN = "pattern"


class Named(Form):
    """A label, or a question that is answered yes or no."""

    name: str = Field(..., pattern=NAME, description="What the flow calls it.")
    about: str = Field(
        "", max_length=1000, description="What it means, in the builder's own words; the clearer, the better it is told from the others."
    )


class Judging(Form):
    """What every step that judges says."""

    of: Any = Field(..., description="What is judged: the result of a read step such as ${paper}, a record, or a text.")
    only: Any = Field(
        None, description="One of several documents within the file: an element of `documents` of the read step. Without it the whole is judged."
    )
    model: str | None = Field(None, description="Name of the model; the service's default when left out.")
    second_reading: str | None = Field(
        None,
        description="Name of the model that judges a second time, by itself and with everything in another order (the first one will do); "
        "where the two differ a person must look.",
    )
    calls: int = Field(12, ge=1, le=200, description="Most requests to models.")
    context: str = Field("", max_length=2000, description="What the model should know besides: who we are, what to expect.")
    unsure: Literal["ask", "go on"] = Field(
        "ask",
        description="When a person must look: a question is put at the desk, and the answer counts; or the run goes on, and the result says so.",
    )

    def task(self) -> Task:
        """What is to be told, once all holes are filled."""
        raise NotImplementedError


def check_models(parameters: Judging, around: Around) -> Iterable[Said]:
    """Models that are not known, or that judge nothing."""
    for place in ("model", "second_reading"):
        name = getattr(parameters, place)
        if name == PATTERN:
            yield place, "The pattern reader judges nothing; name a language model."
        elif name is not None and name not in around.known.models and around.known.whole:
            known = sorted(around.known.models - {PATTERN})
            yield place, f"There is no model {name!r}{meant(name, known)} Known: {', '.join(known) or 'none'}."


def result_of(**own: Schema) -> Schema:
    """The schema of a result: what is told of every judgement, and what this one tells."""
    text: Schema = {"type": "string"}
    besides: dict[str, Schema] = {
        "findings": {"type": "array", "items": ANYTHING},
        "needs_person": {"type": "boolean"},
        "model": text,
        "stand_in": {"type": "boolean"},
        "usage": ANYTHING,
        "asked": {"type": "integer"},
        "document": text,
        "thought": ANYTHING,
        "by": text,
        "comment": text,
        "at": text,
        "question": text,
    }
    return closed({**own, **besides})


def told_by(parameters: Judging) -> str:
    """Who judges, for a sentence about a step."""
    twice = ", read twice" if parameters.second_reading else ""
    return f"{f' with the model {parameters.model}' if parameters.model else ''}{twice}"


__all__ = ["Judging", "Named", "check_models", "result_of", "shown", "told_by"]
