"""fetch: get a page or a file by HTTP."""

from __future__ import annotations

from collections.abc import Iterable

from pydantic import Field

from metrikon.core.flows.around import Around, closed
from metrikon.core.flows.form import NAME, Condition, Form
from metrikon.core.flows.kind import ANYTHING, Kind, Said, Schema
from metrikon.core.flows.words import shown
from metrikon.core.values.near import meant


class Pages(Form):
    """A list that its server gives page by page, as JSON. Its expressions see a page as `page`."""

    entries: Condition = Field(..., alias="list", description="A FEEL expression: the elements on a page, such as page.results.")
    following: Condition | None = Field(None, alias="next", description="A FEEL expression: the address of the page after it; null at the end.")
    most: int = Field(100, ge=1, le=1000, description="The most pages that are fetched.")


class Fetch(Form):
    """Fetch a page or a file; the read step after it makes it readable. One that did not change since is not sent again by its server."""

    url: str = Field(
        ...,
        min_length=1,
        description="Its address, such as https://seeds.example/prices.html; with a connection what comes after the address of that.",
    )
    connection: str | None = Field(None, pattern=NAME, description="Name of a connection, by which it is signed in: at its address and nowhere else.")
    types: list[str] = Field(
        default_factory=list, max_length=20, description="Beginnings of media types that are taken, such as text/html; all when left out."
    )
    most_bytes: int = Field(20_000_000, ge=1, le=200_000_000, description="The most bytes that are fetched.")
    seconds: float = Field(30, gt=0, le=600, description="How long it may take.")
    redirects: int = Field(5, ge=0, le=20, description="How often it may lead on to another address.")
    pages: Pages | None = Field(
        None, description="It is a list that comes page by page; its elements are the result then, to go through with `each`."
    )
    robots: bool = Field(False, description="Whether the robots.txt of the host is honoured.")


def _check(parameters: Fetch, around: Around) -> Iterable[Said]:
    known = around.known.connections
    if parameters.connection is not None and parameters.connection not in known and around.known.whole:
        told = ", ".join(sorted(known)) or "none"
        yield "connection", f"There is no connection {parameters.connection!r}{meant(parameters.connection, sorted(known))} Known: {told}."
    if parameters.connection is None and "${" not in parameters.url and not parameters.url.startswith(("http://", "https://")):
        yield "url", f"{parameters.url!r} is no address of a page; give one that begins with https:// or http://."


def _result(parameters: Fetch, around: Around) -> Schema:
    text: Schema = {"type": "string"}
    number: Schema = {"type": "integer"}
    if parameters.pages is not None:
        return closed({"list": {"type": "array", "items": {}}, "count": number, "pages": number})
    return closed({"file": text, "name": text, "type": text, "size": number, "url": text, "changed": {"type": "boolean"}})


def _tell(parameters: Fetch) -> str:
    by = f" of the connection {parameters.connection}" if parameters.connection else ""
    if parameters.pages is not None:
        return f"Fetch the list at {shown(parameters.url)}{by}, page by page."
    return f"Fetch {shown(parameters.url)}{by}{', as its host allows robots to' if parameters.robots else ''}."


KIND = Kind(
    "fetch",
    Fetch,
    result=_result,
    check=_check,
    needs=("url",),
    outward=True,
    sees=lambda parameters, around: {"page": ANYTHING},
    uses=lambda parameters: (("connection", parameters.connection),) if parameters.connection else (),
    tell=_tell,
)
