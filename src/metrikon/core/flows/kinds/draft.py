"""draft: write a text from a document or record."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from pydantic import Field

from metrikon.core.flows.around import Around
from metrikon.core.flows.judging import Judging, check_models, result_of, shown, told_by
from metrikon.core.flows.kind import ANYTHING, Asks, Kind, Missing, Said, Schema
from metrikon.core.judging.draft import LEAVE, USE, WRITTEN
from metrikon.core.judging.draft import Draft as Task


class Draft(Judging):
    """Write a text from a document or record: a summary, a reply, the prose of a report. Every figure, date and name in it is looked up; one that is in no source stops it."""

    instructions: str = Field(..., min_length=1, max_length=4000, description="What it is to say, and to whom.")
    words: int = Field(200, ge=5, le=2000, description="How many words it may have.")
    language: str = Field("", max_length=40, description="The language of its reader, such as German; that of the document when left out.")
    figures: dict[str, Any] = Field(
        default_factory=dict,
        max_length=60,
        description="Figures that may be used, each under its name, worked out by an expression; how many rows a record has and their sums come by themselves.",
    )


def _check(parameters: Draft, around: Around) -> Iterable[Said]:
    yield from check_models(parameters, around)
    if parameters.second_reading is not None:
        yield "second_reading", "A text is not written twice; leave this out."


def _result(parameters: Draft, around: Around) -> Schema:
    return result_of(
        outcome={"type": "string", "enum": [WRITTEN, USE, LEAVE]},
        sure={"type": "number"},
        text={"type": "string"},
        words={"type": "integer"},
        in_no_source={"type": "array", "items": {"type": "string"}},
        evidence=ANYTHING,
    )


def _asks(parameters: Draft) -> Asks:
    return Asks(
        "", parameters.model, parameters.context, Task(parameters.instructions, parameters.words, parameters.language), None, parameters.calls
    )


def _tell(parameters: Draft) -> str:
    language = f" in {parameters.language}" if parameters.language else ""
    return (
        f"Write at most {parameters.words} words{language} from {shown(parameters.of)}{told_by(parameters)}: {shown(parameters.instructions).strip()}"
    )


def _lacks(values: Mapping[str, Any], missing: Missing) -> str:
    return "" if str(values.get("instructions") or "").strip() else "instructions has no value. Correct the flow, then continue."


SAMPLE = """\
draft: {of: "${paper}", instructions: Thank the supplier., words: 80}
"""
KIND = Kind(
    "draft",
    Draft,
    result=_result,
    check=_check,
    lacks=_lacks,
    needs=("of",),
    outward=True,
    leaves=True,
    asks=_asks,
    tell=_tell,
    sample=SAMPLE,
)
