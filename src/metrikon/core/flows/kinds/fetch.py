"""fetch: get a page or a file by HTTP."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Annotated, Any

from pydantic import Field

from metrikon.core.flows.around import Around, closed
from metrikon.core.flows.form import Condition, ConnectionName, Form
from metrikon.core.flows.kind import ANYTHING, Kind, Missing, Said, Schema
from metrikon.core.flows.words import shown
from metrikon.core.values.near import meant

Status = Annotated[int, Field(ge=200, le=599)]  # of an answer (RFC 9110)


class Pages(Form):
    """A list that its server gives page by page, as JSON. Its expressions see a page as `page`."""

    entries: Condition = Field(..., alias="list", description="A FEEL expression: the elements on a page, such as page.results.")
    following: Condition | None = Field(None, alias="next", description="A FEEL expression: the address of the page after it; null at the end.")
    most: int = Field(100, ge=1, le=1000, description="The most pages that are fetched.")


class Fetch(Form):
    """Fetch a page or a file; the read step after it makes it readable. One that did not change since is not sent again by its server."""

    url: str | None = Field(
        None,
        min_length=1,
        description="Its address, such as https://seeds.example/prices.html; with a connection what comes after the address of that.",
    )
    connection: ConnectionName | None = Field(None, description="Name of a connection, by which it is signed in: at its address and nowhere else.")
    operation: str | None = Field(
        None, max_length=100, description="Instead of an address: an operation of the described service of the connection that changes nothing."
    )
    given: dict[str, Any] = Field(default_factory=dict, max_length=100, description="With `operation`: what it takes, by the names of its fields.")
    drawn: bool = Field(
        False,
        description="Whether the page is drawn in a browser, so that what its scripts make is in it, too; nothing is signed in, and no cookies are kept.",
    )
    types: list[str] = Field(
        default_factory=list, max_length=20, description="Beginnings of media types that are taken, such as text/html; all when left out."
    )
    most_bytes: int = Field(20_000_000, ge=1, le=200_000_000, description="The most bytes that are fetched.")
    seconds: float = Field(30, gt=0, le=600, description="How long it may take.")
    redirects: int = Field(5, ge=0, le=20, description="How often it may lead on to another address.")
    pages: Pages | None = Field(
        None, description="It is a list that comes page by page; its elements are the result then, to go through with `each`."
    )
    plain: bool = Field(
        False, alias="json", description="Whether what comes is JSON: its values are the result, under `answer`, and no file is kept."
    )
    answers: list[Status] = Field(
        default_factory=list,
        max_length=20,
        description="Statuses that are an answer like 200, such as 404 for what is not there yet; the result says which came, under `status`. "
        "What came with one is no file.",
    )
    robots: bool = Field(False, description="Whether the robots.txt of the host is honoured.")


def _check(parameters: Fetch, around: Around) -> Iterable[Said]:
    known, name = around.known.connections, parameters.connection
    if name is not None and name not in known and around.known.whole:
        yield "connection", f"There is no connection {name!r}{meant(name, sorted(known))} Known: {', '.join(sorted(known)) or 'none'}."
    paged, asked, drawn = parameters.pages is not None, parameters.operation is not None, parameters.drawn
    wrong = (
        ("url", (parameters.url is None) == (not asked), "Say either the address `url`, or an `operation` of a described service."),
        ("connection", asked and name is None, "An operation is one of a connection. Name it."),
        ("given", bool(parameters.given) and not asked, "Values are for an `operation`; an address holds its own."),
        ("drawn", drawn and (asked or paged or name is not None), "What is drawn is a page with an address of its own, without a connection: nothing is signed in for it."),
        ("answers", bool(parameters.answers) and (drawn or paged), "A page that is drawn, and a list that comes page by page, have one good answer. Take `answers` away."),
        ("json", parameters.plain and (drawn or paged or asked), "What an operation and the pages of a list give is JSON already, and a page that is drawn is none. Take `json` away."),
        ("pages", paged and asked, "A list that comes page by page has an address. To go through records of a service use `search`, or `lookup` in a destination."),
        ("url", name is None and _no_address(parameters.url), f"{parameters.url!r} is no address of a page; give one that begins with https:// or http://."),
    )  # fmt: skip
    yield from ((place, told) for place, holds, told in wrong if holds)


def _no_address(url: str | None) -> bool:
    """Whether a text is no address of a page, as far as can be told before its holes are filled."""
    return url is not None and "${" not in url and not url.startswith(("http://", "https://"))


def _result(parameters: Fetch, around: Around) -> Schema:
    text: Schema = {"type": "string"}
    number: Schema = {"type": "integer"}
    if parameters.pages is not None:
        return closed({"list": {"type": "array", "items": {}}, "count": number, "pages": number})
    if parameters.operation is not None or parameters.plain:
        return closed({"answer": ANYTHING, "status": number})
    told: Schema = {"type": ["string", "null"]} if parameters.answers else text
    return closed({"file": told, "name": told, "type": text, "size": number, "url": text, "changed": {"type": "boolean"}, "status": number})


def _tell(parameters: Fetch) -> str:
    by = f" of the connection {parameters.connection}" if parameters.connection else ""
    if parameters.pages is not None:
        return f"Fetch the list at {shown(parameters.url)}{by}, page by page."
    if parameters.operation is not None:
        given = ", ".join(f"{name} {shown(value)}" for name, value in parameters.given.items())
        return f"Ask {parameters.connection} for {parameters.operation}{f' with {given}' if given else ''}."
    if parameters.drawn:
        return f"Fetch {shown(parameters.url)}, drawn by a browser."
    return f"Fetch {shown(parameters.url)}{by}{', as its host allows robots to' if parameters.robots else ''}."


def _lacks(values: Mapping[str, Any], missing: Missing) -> str:
    if values.get("url") is not None or values.get("operation") is not None:
        return ""
    return f"url has no value: {', '.join(missing('url')) or 'url'} is missing. Correct the flow, then continue."


SAMPLE = """\
fetch: {url: "https://seeds.example/prices.html"}
"""
KIND = Kind(
    "fetch",
    Fetch,
    result=_result,
    check=_check,
    lacks=_lacks,
    outward=True,
    looks=True,
    sees=lambda parameters, around: {"page": ANYTHING},
    uses=lambda parameters: (("connection", parameters.connection),) if parameters.connection else (),
    tell=_tell,
    sample=SAMPLE,
)
