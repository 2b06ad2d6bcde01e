"""decide: ask a decision table."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from pydantic import Field

from metrikon.core.decisions.model import SINGLE, Output, Table
from metrikon.core.flows.around import Around, closed, listed
from metrikon.core.flows.form import Form
from metrikon.core.flows.kind import ANYTHING, Kind, Said, Schema
from metrikon.core.flows.words import shown
from metrikon.core.values.near import meant

_TYPES = {"string": "string", "number": "number", "boolean": "boolean"}


class Decide(Form):
    """Ask a decision table. `outcome` is what it decides, `rules` are the numbers of the rules that held."""

    table: str = Field(..., description="Name of the decision table.")
    given: dict[str, Any] = Field(default_factory=dict, description="What the table looks at, by the names that it uses.")


def _check(parameters: Decide, around: Around) -> Iterable[Said]:
    tables = around.known.tables
    table = tables.get(parameters.table)
    if table is None:
        if not around.known.whole:
            return
        told = ", ".join(sorted(tables)) or "none yet; put one first"
        yield "table", f"There is no decision table {parameters.table!r}{meant(parameters.table, tables)} Known: {told}."
        return
    for name in table.needs:
        if name not in parameters.given:
            yield "given", f"The table looks at {name!r}, which is not given; add it, such as {name}: ${{…}}."
    for name in parameters.given:
        if name not in table.needs:
            yield f"given/{name}", f"The table does not look at {name!r}{meant(name, table.needs)} It looks at {', '.join(table.needs)}."


def _result(parameters: Decide, around: Around) -> Schema:
    table = around.known.tables.get(parameters.table)
    outcome = _outcome(table) if table is not None else ANYTHING
    return closed({"outcome": outcome, "rules": listed({"type": "integer"}), "table": {"type": "string"}, "version": {"type": "integer"}})


def _outcome(table: Table) -> Schema:
    one = _typed(table.outputs[0]) if len(table.outputs) == 1 else closed({each.name: _typed(each) for each in table.outputs})
    if table.hit in SINGLE:
        return one
    return ({"type": "number"} if table.collect != "min" and table.collect != "max" else one) if table.collect else listed(one)


def _typed(output: Output) -> Schema:
    return {"type": _TYPES[output.type]} if output.type in _TYPES else ANYTHING


def _tell(parameters: Decide) -> str:
    given = f" for {', '.join(f'{name} = {shown(value)}' for name, value in parameters.given.items())}" if parameters.given else ""
    return f"Ask the decision table {parameters.table}{given}."


SAMPLE = """\
decide: {table: approvals, given: {amount: "${checked.record.total}"}}
"""
KIND = Kind(
    "decide",
    Decide,
    result=_result,
    check=_check,
    uses=lambda parameters: (("decision table", parameters.table),),
    tell=_tell,
    sample=SAMPLE,
)
