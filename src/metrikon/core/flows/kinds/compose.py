"""compose: a document made from a template."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Any

from pydantic import Field

from metrikon.core.flows.around import Around, text
from metrikon.core.flows.form import NAME, ConnectionName, Form
from metrikon.core.flows.kind import Kind, Said, Schema
from metrikon.core.flows.words import shown
from metrikon.core.values.near import meant

TEMPLATES = {".docx": (".docx",), ".odt": (".odt",), ".html": (".html", ".pdf")}


class Compose(Form):
    """Make a document from a template that a person made in an office program (DOCX, ODT), or from a page (HTML, also as PDF). Its text has holes, as flows have: ${total}."""

    template: str = Field(
        ...,
        min_length=1,
        max_length=1000,
        description="The file, such as templates/report.docx; from the service's folder, or after the address of the connection.",
    )
    connection: ConnectionName | None = Field(
        None, description="Name of a connection to the server (WebDAV) that holds the template; left out for a file here."
    )
    values: dict[str, Any] = Field(
        default_factory=dict, max_length=500, description="Names that the holes may use, besides those that are known in the flow."
    )
    rows: dict[str, Any] = Field(
        default_factory=dict,
        max_length=20,
        description="Lists by the name of one element: a row of a table with ${line.amount} is repeated for each of `line`.",
    )
    pictures: dict[str, Any] = Field(default_factory=dict, max_length=20, description="Pictures (files) by name: a hole with such a name shows it.")
    name: str = Field(..., min_length=1, max_length=200, description="The name of the document with its ending, such as Report ${run.today}.docx.")


def _ending(name: str) -> str:
    return f".{name.rpartition('.')[2].lower()}" if "." in name else ""


def _check(parameters: Compose, around: Around) -> Iterable[Said]:
    known = around.known.connections
    name = parameters.connection
    if name is not None and name not in known and around.known.whole:
        yield "connection", f"There is no connection {name!r}{meant(name, sorted(known))} Known: {', '.join(sorted(known)) or 'none'}."
    source, wanted = _ending(parameters.template), _ending(parameters.name)
    if "${" not in parameters.template and source not in TEMPLATES:
        yield "template", f"A template is a DOCX, ODT or HTML file; {parameters.template!r} ends with {source or 'nothing'}."
    elif "${" not in parameters.template and wanted not in TEMPLATES[source]:
        yield "name", f"From {source} a document is made that ends with {' or '.join(TEMPLATES[source])}; {parameters.name!r} does not."
    for place, names in (("values", parameters.values), ("rows", parameters.rows), ("pictures", parameters.pictures)):
        for each in names:
            if not _is_name(each):
                yield f"{place}/{each}", "It is no name: small letters, figures and underscores, not a figure first."
    for each in set(parameters.rows) & set(parameters.pictures):
        yield f"pictures/{each}", "There are rows of this name, too. Name one of them otherwise."


def _is_name(name: str) -> bool:
    return re.fullmatch(NAME, name) is not None


def _result(parameters: Compose, around: Around) -> Schema:
    return text(file="The document, kept as a file.", name="Its name.")


SAMPLE = """\
compose: {template: templates/letter.docx, values: {vendor: "${checked.record.vendor}"}, name: "letter ${item.name}.docx"}
"""
KIND = Kind(
    "compose",
    Compose,
    result=_result,
    check=_check,
    needs=("template", "name"),
    outward=True,
    uses=lambda parameters: [("connection", parameters.connection)] if parameters.connection else [],
    tell=lambda parameters: f"Make {shown(parameters.name)} from the template {shown(parameters.template)}.",
    sample=SAMPLE,
)
