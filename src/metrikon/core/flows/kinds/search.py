"""search: find pages by words, or records of a service by fields."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from pydantic import Field

from metrikon.core.flows.around import Around, closed, listed
from metrikon.core.flows.form import NAME, ConnectionName, Form
from metrikon.core.flows.kind import ANYTHING, Kind, Said, Schema
from metrikon.core.flows.words import shown
from metrikon.core.values.near import meant


class Search(Form):
    """Search a service by words, where it describes its search (OpenSearch); or find records of a described service (OpenAPI) by fields. Nothing found is no failure."""

    connection: ConnectionName = Field(..., description="Name of a connection to the service.")
    words: str | None = Field(None, max_length=1000, description="The words that are searched for.")
    path: str = Field("", max_length=1000, description="With `words`: where the service describes its search, after the address of the connection.")
    records: str | None = Field(None, pattern=NAME, description="Which kind of record is looked for, as the notes of the connection name it.")
    by: dict[str, Any] = Field(default_factory=dict, max_length=10, description="With `records`: fields with the values that they must have.")
    most: int = Field(20, ge=1, le=1000, description="How many results are wanted at most.")


def _check(parameters: Search, around: Around) -> Iterable[Said]:
    known, name = around.known.connections, parameters.connection
    if name not in known and around.known.whole:
        yield "connection", f"There is no connection {name!r}{meant(name, sorted(known))} Known: {', '.join(sorted(known)) or 'none'}."
    if (parameters.words is None) == (parameters.records is None):
        yield "words", "Say either the `words` that are searched for, or the `records` that are looked for."
    if parameters.records is not None and not parameters.by:
        yield "by", "It says nothing to find records by: give fields with values."
    if parameters.words is not None and parameters.by:
        yield "by", "Fields are for `records`; words are searched for as they are."


def _result(parameters: Search, around: Around) -> Schema:
    text: Schema = {"type": "string"}
    one = closed({"title": text, "address": text, "text": text}) if parameters.words is not None else ANYTHING
    return closed({"list": listed(one), "count": {"type": "integer"}, "total": {"type": "integer"}, "found": {"type": "boolean"}, "first": one})


def _tell(parameters: Search) -> str:
    if parameters.words is not None:
        return f"Search {parameters.connection} for {shown(parameters.words)}; at most {parameters.most} results."
    by = " and ".join(f"{field} is {shown(value)}" for field, value in parameters.by.items())
    return f"Find {parameters.records} of {parameters.connection} where {by}."


SAMPLE = """\
search: {connection: finder, words: "${checked.record.vendor}"}
"""
KIND = Kind(
    "search",
    Search,
    result=_result,
    check=_check,
    outward=True,
    looks=True,
    uses=lambda parameters: [("connection", parameters.connection)],
    tell=_tell,
    sample=SAMPLE,
)
