"""post: say something in a room of a chat, or hand a payload to an address."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from pydantic import Field, model_validator

from metrikon.core.deliveries.sending import Sends, told_of
from metrikon.core.flows.around import Around, closed, text
from metrikon.core.flows.form import ConnectionName
from metrikon.core.flows.kind import Kind, Said, Schema
from metrikon.core.flows.once import BEFORE, Once
from metrikon.core.flows.words import shown
from metrikon.core.values.near import meant


class Post(Once):
    """Post to a room of a chat: text, a table, a file, within a thread. Or hand a payload as JSON to the address of a connection. Both go under an id that stays the same when they are repeated, so that it counts once."""

    connection: ConnectionName = Field(..., description="Name of a connection to a chat's server, or to the service that takes the payload.")
    room: str | None = Field(None, max_length=300, description="The room, such as #receipts:garden.example.")
    text: str | None = Field(None, max_length=20_000, description="What is said there.")
    table: Any = Field(None, description="Rows that are shown beneath it: a list of contexts with the same names.")
    file: str | None = Field(None, description="A file that is shown there, such as ${item.file}; a picture as a picture.")
    name: str | None = Field(None, max_length=200, description="What the file is called.")
    thread: str | None = Field(None, max_length=300, description="The message to which it belongs, such as ${item.data.thread}.")
    path: str | None = Field(
        None, max_length=1000, description="For a payload: where it goes, after the address of the connection; empty for that itself."
    )
    payload: Any = Field(None, description="The payload: any values.")

    @model_validator(mode="after")
    def _one_way(self) -> Post:
        if (self.room is None) == (self.payload is None):
            raise ValueError("Give a room of a chat, or a payload, one of them.")
        if self.room is not None and self.text is None and self.table is None and self.file is None:
            raise ValueError("Say what is posted: text, a table or a file.")
        return self


def _check(parameters: Post, around: Around) -> Iterable[Said]:
    known = around.known.connections
    if parameters.connection not in known and around.known.whole:
        told = ", ".join(sorted(known)) or "none"
        yield "connection", f"There is no connection {parameters.connection!r}{meant(parameters.connection, sorted(known))} Known: {told}."


def _result(parameters: Post, around: Around) -> Schema:
    return closed({**BEFORE, **text(id="The id of the message, or that under which the payload went.")["properties"]})


def _tell(parameters: Post) -> str:
    if parameters.room is None:
        return f"Hand a payload to {parameters.connection}{f', {shown(parameters.path)}' if parameters.path else ''}."
    what = f"“{shown(parameters.text)}”" if parameters.text else "a table" if parameters.table is not None else "a file"
    return f"Post {what} to the room {shown(parameters.room)}{' in its thread' if parameters.thread else ''}."


def _sends(values: Mapping[str, Any]) -> Sends:
    room = values.get("room")
    told = (
        {name: values.get(name) for name in ("room", "text", "table") if values.get(name) is not None} if room else {"payload": values.get("payload")}
    )
    return Sends("message" if room else "call", str(room or values["connection"]), told, values["key"], values["if_sent"] == "again")


SAMPLE = """\
post: {connection: chat, room: "#team:garden.example", text: "${item.name} came."}
"""
KIND = Kind(
    "post",
    Post,
    sends=_sends,
    told=lambda result: told_of("message", result),
    result=_result,
    check=_check,
    outward=True,
    uses=lambda parameters: [("connection", parameters.connection)],
    tell=_tell,
    goes=lambda parameters: f"the room {shown(parameters.room)}" if parameters.room else f"the service of {parameters.connection}",
    would=lambda values: f"It would be posted to {values.get('room') or values['connection']}.",
    sample=SAMPLE,
)
