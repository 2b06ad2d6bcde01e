"""check: put a record with findings that stop before a person."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from decimal import Decimal
from typing import Literal

from pydantic import Field

from metrikon.core.flows.around import Around, closed, listed
from metrikon.core.flows.form import Form, OptionalBlock
from metrikon.core.flows.kind import ANYTHING, Kind, Said, Schema
from metrikon.core.flows.words import shown
from metrikon.core.records.confidence import UNATTENDED


class Check(Form):
    """Check a record; one with findings that stop waits for a person."""

    record: str = Field(..., description="The result of an extract step.")
    review: Literal["on stop", "always", "never"] = Field("on stop", description="When a person must look.")
    unattended: Decimal = Field(
        UNATTENDED, ge=0, le=1, description="The least confidence of a value that is written unattended; below it a person must look."
    )
    on_refusal: OptionalBlock = Field(
        default_factory=list,
        description="Steps that are done when a person refuses the record, such as a mail to its sender; then it is refused. They see `refusal`: by, comment, record.",
    )


def _check(parameters: Check, around: Around) -> Iterable[Said]:
    given = around.schema_of(parameters.record)
    known = given is not None and ("record" in given.get("properties", ()) or not given)
    if "${" not in parameters.record or not known:
        yield "record", "It must be the result of an extract step, such as ${invoice}."


def _result(parameters: Check, around: Around) -> Schema:
    given = around.schema_of(parameters.record) or ANYTHING
    record = given.get("properties", {}).get("record", ANYTHING)
    return closed({"id": {"type": "string"}, "record": record, "findings": listed(ANYTHING), "approved": {"type": "boolean"}})


def _names(parameters: Check, around: Around, block: str) -> Mapping[str, Schema | None]:
    given = around.schema_of(parameters.record) or ANYTHING
    record = given.get("properties", {}).get("record", ANYTHING)
    return {"refusal": closed({"by": {"type": "string"}, "comment": {"type": "string"}, "record": record})}


def _tell(parameters: Check) -> str:
    when = {"on stop": "a person looks when something stops it", "always": "a person always looks", "never": "nobody looks"}[parameters.review]
    return f"Check {shown(parameters.record)}; {when}."


SAMPLE = """\
check: {record: "${found}"}
"""
KIND = Kind(
    "check",
    Check,
    result=_result,
    check=_check,
    names=_names,
    needs=("record",),
    tell=_tell,
    ways=lambda parameters: ["If a person refuses it:"] if parameters.on_refusal else [],
    sample=SAMPLE,
)
