"""ask: put a question to a person."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import Any, Literal

from pydantic import Field

from metrikon.core.flows.around import Around, closed
from metrikon.core.flows.form import NAME, Duration, Form
from metrikon.core.flows.kind import Kind, Said, Schema
from metrikon.core.flows.words import shown, told_duration


class Option(Form):
    """One answer that may be given."""

    name: str = Field(..., pattern=NAME, description="What the flow calls it.")
    label: str = Field(..., min_length=1, max_length=80, description="What people read on the button, such as “Order it”.")
    comment: Literal["wanted", "welcome", "none"] = Field("welcome", description="Whether a comment must, may or cannot be given with it.")


class Ask(Form):
    """Put a question to a person; the run goes on with the answer. Its step may have a `limit`, after which `default` counts as the answer."""

    question: str = Field(..., min_length=1, max_length=2000, description="What is asked, in words for people.")
    options: list[Option] = Field(..., min_length=1, max_length=9, description="The answers that may be given.")
    show: dict[str, Any] = Field(default_factory=dict, description="Values shown beside the question, each under a label.")
    who: list[str] = Field(default_factory=list, description="Who may answer, by the names of people; anyone who may sign in when left out.")
    remind: Duration | None = Field(
        None,
        description="After how long it is brought to mind, again and again: seconds, or a duration such as P1D. It then comes first at the desk.",
    )
    default: str | None = Field(None, description="The option that counts when the limit of the step is over; without one the step has then failed.")


def _check(parameters: Ask, around: Around) -> Iterable[Said]:
    names = [each.name for each in parameters.options]
    for name in dict.fromkeys(each for each in names if names.count(each) > 1):
        yield "options", f"There are two options {name!r}; call one otherwise."
    if parameters.default is not None and parameters.default not in names:
        yield "default", f"There is no option {parameters.default!r}. Known: {', '.join(names)}."


def _result(parameters: Ask, around: Around) -> Schema:
    names = [each.name for each in parameters.options]
    text: Schema = {"type": "string"}
    return closed({"answer": {"type": "string", "enum": names}, "by": text, "at": text, "comment": text, "question": text})


def _late(values: Mapping[str, Any], now: datetime) -> Any:
    if values["default"] is None:
        return None
    return {"answer": values["default"], "by": "", "at": now.isoformat(timespec="seconds"), "comment": "", "question": ""}


def _tell(parameters: Ask) -> str:
    who = ", ".join(parameters.who) or "a person"
    reminded = f", brought to mind every {told_duration(parameters.remind).removeprefix('1 ')}" if parameters.remind else ""
    return f"Ask {who}{reminded}: “{shown(parameters.question)}” ({', '.join(each.label for each in parameters.options)})"


SAMPLE = """\
ask: {question: "May ${item.name} be paid?", options: [{name: pay, label: Pay it}, {name: leave, label: Leave it, comment: wanted}]}
"""
KIND = Kind(
    "ask",
    Ask,
    result=_result,
    check=_check,
    needs=("question",),
    late=_late,
    leaves=True,
    tell=_tell,
    sample=SAMPLE,
)
