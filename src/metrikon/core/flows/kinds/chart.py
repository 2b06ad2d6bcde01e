"""chart: bars, lines or shares drawn from rows."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, Literal

from pydantic import Field

from metrikon.core.flows.around import Around, text
from metrikon.core.flows.form import Form
from metrikon.core.flows.kind import Kind, Said, Schema
from metrikon.core.flows.words import shown


class Chart(Form):
    """Draw bars, lines or shares from rows, such as those of `tally`, as a picture for a message, a mail or a document."""

    rows: Any = Field(..., description="The rows, such as ${month.rows}.")
    draw: Literal["bars", "lines", "shares"] = Field("bars", description="What is drawn.")
    along: str = Field(..., min_length=1, max_length=200, description="The column whose values stand side by side, such as Category or period.")
    amount: str = Field(..., min_length=1, max_length=200, description="The column with the amounts, such as Total.")
    by: str | None = Field(None, max_length=200, description="The column by which there are several series.")
    title: str = Field("", max_length=200, description="What it shows, in a few words; above it.")
    unit: str = Field("", max_length=20, description="The unit of the amounts, such as EUR.")


def _check(parameters: Chart, around: Around) -> Iterable[Said]:
    if isinstance(parameters.rows, str) and "${" not in parameters.rows:
        yield "rows", "It is no list of rows. Name one, such as ${month.rows}."
    schema = around.schema_of(parameters.rows) if isinstance(parameters.rows, str) else None
    known = ((schema or {}).get("items") or {}).get("properties") if isinstance(schema, dict) else None
    for place, column in (("along", parameters.along), ("amount", parameters.amount), ("by", parameters.by)):
        if known and column is not None and column not in known:
            yield place, f"The rows have no column {column!r}. They have {', '.join(known)}."


def _result(parameters: Chart, around: Around) -> Schema:
    return text(png="The picture (PNG), kept as a file.", svg="The same as a drawing (SVG), kept as a file.", name="A name for it, without ending.")


def _tell(parameters: Chart) -> str:
    by = f", a series for each {parameters.by}" if parameters.by else ""
    return f"Draw {parameters.draw} of {parameters.amount} along {parameters.along} from {shown(parameters.rows)}{by}."


SAMPLE = """\
chart: {rows: "${month.rows}", along: currency, amount: total}
"""
KIND = Kind(
    "chart",
    Chart,
    result=_result,
    check=_check,
    needs=("rows",),
    tell=_tell,
    sample=SAMPLE,
)
