"""lookup: find rows that are there already."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from pydantic import Field

from metrikon.core.flows.around import Around, closed, listed
from metrikon.core.flows.form import Condition, Form
from metrikon.core.flows.kind import ANYTHING, Kind, Said, Schema
from metrikon.core.flows.words import shown
from metrikon.core.values.near import meant


class Lookup(Form):
    """Find rows in a list of known values, or in a table or sheet that this flow names as a destination. Nothing found is no failure."""

    place: str = Field(..., alias="in", description="Name of a list, or of a destination of this flow.")
    where: dict[str, Any] = Field(default_factory=dict, description="Columns with the values that they must have.")
    that: Condition | None = Field(None, description="A FEEL condition over a row, named `row`, such as row.Due < string(today()).")
    order: str | None = Field(None, description="The column by which rows are put in order.")
    last: bool = Field(False, description="Whether the last in that order comes first.")
    most: int = Field(1, ge=1, le=10_000, description="How many rows are wanted at most.")


def _check(parameters: Lookup, around: Around) -> Iterable[Said]:
    lists, destinations = around.known.lists, around.flow.destinations
    if parameters.place not in lists and parameters.place not in destinations:
        if not around.known.whole:
            return
        known = [*destinations, *sorted(lists)]
        told = ", ".join(known) or "none"
        yield "in", f"There is no list and no destination {parameters.place!r}{meant(parameters.place, known)} Known: {told}."
    elif parameters.place not in destinations:
        heads = lists[parameters.place]
        for column in (*parameters.where, *([parameters.order] if parameters.order else [])):
            if heads and column not in heads:
                yield "where", f"The list has no column {column!r}{meant(column, heads)} It has {', '.join(heads)}."
    if not parameters.where and parameters.that is None and parameters.order is None:
        yield "where", "It says nothing to find rows by: give `where`, `that` or `order`."


def _result(parameters: Lookup, around: Around) -> Schema:
    heads = around.known.lists.get(parameters.place) if parameters.place not in around.flow.destinations else None
    row = closed({name: {"type": "string"} for name in heads}) if heads else ANYTHING
    return closed({"found": {"type": "boolean"}, "row": row, "rows": listed(row), "count": {"type": "integer"}})


def _row(parameters: Lookup, around: Around) -> Mapping[str, Schema | None]:
    return {"row": ANYTHING}


def _tell(parameters: Lookup) -> str:
    by = [f"{column} is {shown(value)}" for column, value in parameters.where.items()] + ([parameters.that] if parameters.that else [])
    many = "the row" if parameters.most == 1 else f"at most {parameters.most} rows"
    order = f", {'the last' if parameters.last else 'the first'} by {parameters.order} first" if parameters.order else ""
    return f"Find {many} of {parameters.place}{' where ' + ' and '.join(by) if by else ''}{order}."


SAMPLE = """\
lookup: {in: ledger, where: {Number: "${checked.record.number}"}}
"""
KIND = Kind(
    "lookup",
    Lookup,
    result=_result,
    check=_check,
    sees=_row,
    looks=True,
    uses=lambda parameters: (("list", parameters.place),),
    tell=_tell,
    sample=SAMPLE,
)
