"""extract: read the values of a record type from a document, each with its evidence."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from pydantic import Field

from metrikon.core.flows.around import Around, closed, listed, of_record
from metrikon.core.flows.form import Form
from metrikon.core.flows.kind import ANYTHING, Asks, Kind, Said, Schema
from metrikon.core.flows.words import shown
from metrikon.core.values.near import meant


class Extract(Form):
    """Read the values of a record type from a document, each with its evidence."""

    document: str = Field(..., description="The result of a read step.")
    record_type: str = Field(..., description="Name of the record type.")
    only: Any = Field(
        None,
        description="One of several documents within the file: an element of `documents` of the read step. Without it a file that holds several stops.",
    )
    model: str | None = Field(None, description="Name of the model; the service's default when left out.")
    second: str | None = Field(None, description="Name of a stronger model that reads again what the first could not mend.")
    second_reading: str | None = Field(
        None,
        description="Name of the model that reads yes/no and options a second time, by itself (the first one will do); where the two differ a person must look.",
    )
    calls: int = Field(12, ge=1, le=200, description="Most requests to models for one document.")
    context: str = Field("", max_length=2000, description="What the model should know besides: who we are, what to expect.")


def _check(parameters: Extract, around: Around) -> Iterable[Said]:
    models = around.known.models
    for place in ("model", "second", "second_reading"):
        name = getattr(parameters, place)
        if name is not None and name not in models and around.known.whole:
            yield place, f"There is no model {name!r}{meant(name, models)} Known: {', '.join(sorted(models)) or 'none'}."
    types = around.known.record_types
    if parameters.record_type not in types and around.known.whole:
        near = meant(parameters.record_type, types)
        yield (
            "record_type",
            f"There is no record type {parameters.record_type!r}{near} Known: {', '.join(sorted(types)) or 'none yet; put one first'}.",
        )


def _result(parameters: Extract, around: Around) -> Schema:
    kind = around.known.record_types.get(parameters.record_type)
    return closed(
        {
            "id": {"type": "string", "description": "The record."},
            "record_type": {"type": "string"},
            "record": of_record(kind.schema) if kind is not None else ANYTHING,
            "findings": listed(ANYTHING),
            "usage": ANYTHING,
            "model": {"type": "string"},
            "asked": ANYTHING,
            "doubts": ANYTHING,
            "stages": listed(ANYTHING),
        }
    )


def _tell(parameters: Extract) -> str:
    by = f" with the model {parameters.model}" if parameters.model else ""
    only = f", of it {shown(parameters.only)} alone" if parameters.only else ""
    return f"Read the values of {parameters.record_type} from {shown(parameters.document)}{only}{by}, each with its evidence."


SAMPLE = """\
extract: {document: "${paper}", record_type: invoice}
"""
KIND = Kind(
    "extract",
    Extract,
    result=_result,
    check=_check,
    needs=("document",),
    outward=True,
    uses=lambda parameters: (("record type", parameters.record_type),),
    asks=lambda parameters: Asks(parameters.record_type, parameters.model, parameters.context, None, parameters.second_reading, parameters.calls),
    tell=_tell,
    sample=SAMPLE,
)
