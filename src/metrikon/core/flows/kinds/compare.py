"""compare: tell what changed, and whether it matters."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from pydantic import Field

from metrikon.core.flows.around import Around
from metrikon.core.flows.judging import Judging, check_models, result_of, shown, told_by
from metrikon.core.flows.kind import ANYTHING, Asks, Kind, Said, Schema
from metrikon.core.judging.compare import OUTCOMES
from metrikon.core.judging.compare import Compare as Task


class Compare(Judging):
    """Tell what changed between two texts, pages or records, and whether it matters. Numbers and dates are compared by what they say; the order of rows, spelling and layout are no change."""

    before: Any = Field(..., description="What was: the result of a read step, a record, or a text; of the same sort as `of`, which is what is now.")
    matters: str = Field(
        "",
        max_length=2000,
        description="What matters, in the builder's own words, such as “other prices; new or dropped plants”. Without it every change does, and no model is asked.",
    )
    least: float = Field(0.6, ge=0, le=1, description="How sure the outcome must be (0 to 1), or a person must look.")


def _check(parameters: Compare, around: Around) -> Iterable[Said]:
    yield from check_models(parameters, around)
    if parameters.before == parameters.of:
        yield "before", "It is compared with itself."


def _result(parameters: Compare, around: Around) -> Schema:
    changes = {"type": "array", "items": ANYTHING}
    return result_of(outcome={"type": "string", "enum": list(OUTCOMES)}, sure={"type": "number"}, evidence=ANYTHING, changes=changes)


def _asks(parameters: Compare) -> Asks | None:
    if not parameters.matters:
        return None
    return Asks("", parameters.model, parameters.context, Task(matters=parameters.matters), parameters.second_reading, parameters.calls)


def _tell(parameters: Compare) -> str:
    what = f", and whether it matters: {parameters.matters.strip().rstrip('.')}" if parameters.matters else ""
    return f"Tell what changed from {shown(parameters.before)} to {shown(parameters.of)}{what}{told_by(parameters)}."


SAMPLE = """\
compare: {of: "${paper}", before: "The price is 41.", matters: other prices}
"""
KIND = Kind(
    "compare",
    Compare,
    result=_result,
    check=_check,
    needs=("of",),
    outward=True,
    leaves=True,
    asks=_asks,
    tell=_tell,
    sample=SAMPLE,
)
