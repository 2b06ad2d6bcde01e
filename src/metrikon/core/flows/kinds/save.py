"""save: put a file into a folder, here or on a server."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, Literal

from pydantic import Field

from metrikon.core.deliveries.sending import Sends
from metrikon.core.flows.around import Around, text
from metrikon.core.flows.form import ConnectionName, Form
from metrikon.core.flows.kind import Kind, Said, Schema
from metrikon.core.flows.words import shown
from metrikon.core.values.near import meant


class Save(Form):
    """Put a file into a folder of this machine or of a server (WebDAV), under a name made from values. Another file of that name is never overwritten unless that is said."""

    file: str = Field(..., min_length=1, description="The file, such as ${item.file}.")
    to: str = Field(
        ...,
        min_length=1,
        max_length=1000,
        description="Where to, with its name, such as papers/${item.name}; from the service's folder, or after the address of the connection.",
    )
    connection: ConnectionName | None = Field(None, description="Name of a connection to the server; left out for a folder here.")
    if_there: Literal["keep", "number", "overwrite"] = Field(
        "keep",
        description="When another file of that name is there: the step fails and it is kept, a number is put behind the name, or it is overwritten.",
    )


def _check(parameters: Save, around: Around) -> Iterable[Said]:
    known = around.known.connections
    name = parameters.connection
    if name is not None and name not in known and around.known.whole:
        yield "connection", f"There is no connection {name!r}{meant(name, sorted(known))} Known: {', '.join(sorted(known)) or 'none'}."
    if ".." in parameters.to.split("/"):
        yield "to", "It leads out of its folder (..). Name the folder itself."


def _result(parameters: Save, around: Around) -> Schema:
    return text(
        place="Where the file is now.",
        result='"written" or "there already".',
        over="What was overwritten, kept as a file; or that it is not known whether anything was.",
    )


def _sends(values: Mapping[str, Any]) -> Sends:
    to, on = str(values["to"]), values.get("connection")
    held = {"to": to, "connection": on, "file": str(values["file"])}
    return Sends("file", f"{on}: {to}" if on else to, held, looks=True, of_item=list(held.values()), moves=True)


def _tell(parameters: Save) -> str:
    on = f" of {parameters.connection}" if parameters.connection else ""
    there = {"keep": "", "number": ", with a number where another is there", "overwrite": ", over one that is there"}[parameters.if_there]
    return f"Save {shown(parameters.file)} as {shown(parameters.to)}{on}{there}."


SAMPLE = """\
save: {file: "${item.file}", to: "papers/${item.name}"}
"""
KIND = Kind(
    "save",
    Save,
    sends=_sends,
    result=_result,
    check=_check,
    needs=("file", "to"),
    outward=True,
    uses=lambda parameters: [("connection", parameters.connection)] if parameters.connection else [],
    tell=_tell,
    goes=lambda parameters: f"files{f' of {parameters.connection}' if parameters.connection else ''}: {shown(parameters.to)}",
    would=lambda values: f"The file would be saved as {values['to']}.",
    sample=SAMPLE,
)
