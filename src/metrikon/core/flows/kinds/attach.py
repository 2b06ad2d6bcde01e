"""attach: give a record of a service a file."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from pydantic import Field

from metrikon.core.deliveries.sending import Sends, told_of
from metrikon.core.flows.around import Around, closed, text
from metrikon.core.flows.form import NAME, ConnectionName, Form
from metrikon.core.flows.kind import Kind, Said, Schema
from metrikon.core.flows.once import BEFORE
from metrikon.core.flows.words import shown
from metrikon.core.values.near import meant


class Attach(Form):
    """Give a record of a described service a file. Where it is cut off, and the service does not take a request only once, a person looks whether the file is there."""

    connection: ConnectionName = Field(..., description="Name of a connection whose service is described (OpenAPI) and noted.")
    records: str = Field(..., pattern=NAME, description="Which kind of record, as its notes name it, such as contacts.")
    by: dict[str, Any] = Field(
        ..., min_length=1, max_length=5, description="Fields by which the record is found, with their values, such as {email: ${read.email}}."
    )
    file: str = Field(..., min_length=1, description="The file, such as ${item.file}.")
    name: str = Field(..., min_length=1, max_length=200, description="The name of the file there, such as ${item.name}.")


def _check(parameters: Attach, around: Around) -> Iterable[Said]:
    known, name = around.known.connections, parameters.connection
    if name not in known and around.known.whole:
        yield "connection", f"There is no connection {name!r}{meant(name, sorted(known))} Known: {', '.join(sorted(known)) or 'none'}."


def _result(parameters: Attach, around: Around) -> Schema:
    told = text(place="The record that has the file now.", id="The id of the file, where the service tells it.", record="The id of the record.")
    return closed({**told["properties"], **BEFORE})


def _sends(values: Mapping[str, Any]) -> Sends:
    held = {
        "connection": str(values["connection"]),
        "records": str(values["records"]),
        "name": str(values["name"]),
        "file": str(values["file"]),
        **{f"by {field}": value for field, value in values["by"].items()},
    }
    return Sends("attachment", f"{values['records']} of {values['connection']}", held)


def _tell(parameters: Attach) -> str:
    by = " and ".join(f"{field} {shown(value)}" for field, value in parameters.by.items())
    return f"Give the record with {by} ({parameters.records} of {parameters.connection}) the file {shown(parameters.name)}."


SAMPLE = """\
attach: {connection: crm, records: contacts, by: {email: "${checked.record.vendor}"}, file: "${item.file}", name: "${item.name}"}
"""
KIND = Kind(
    "attach",
    Attach,
    sends=_sends,
    told=lambda result: told_of("attachment", result),
    result=_result,
    check=_check,
    needs=("file", "name"),
    outward=True,
    uses=lambda parameters: [("connection", parameters.connection)],
    tell=_tell,
    goes=lambda parameters: f"files of {parameters.records} of {parameters.connection}",
    would=lambda values: (
        f"The file {values['name']} would be given to the record with {', '.join(f'{field} {value}' for field, value in values['by'].items())}."
    ),
    sample=SAMPLE,
)
