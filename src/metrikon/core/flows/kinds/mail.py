"""mail: send a mail."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from pydantic import Field

from metrikon.core.deliveries.sending import Sends, told_of
from metrikon.core.flows.around import Around, closed
from metrikon.core.flows.form import ConnectionName, Form
from metrikon.core.flows.kind import Kind, Said, Schema
from metrikon.core.flows.once import BEFORE, Once
from metrikon.core.flows.words import shown
from metrikon.core.values.near import meant


class Kept(Form):
    """A folder of a mailbox in which sent mails are."""

    connection: ConnectionName = Field(..., description="Name of a connection to the mailbox (imaps://…).")
    folder: str = Field("Sent", min_length=1, max_length=200, description="Its folder of sent mails.")
    put: bool = Field(True, description="Whether the mail is put there by us; false where the server does so by itself.")


class Mail(Once):
    """Send a mail: text, simple HTML, attachments, as an answer within its thread. It is sent once; one that was cut off while it was handed over waits for a person, unless it is found among the sent ones."""

    connection: ConnectionName = Field(..., description="Name of a connection to a server that takes mail (smtps://…, smtp://…).")
    sender: str = Field(..., min_length=3, max_length=300, description="From whom, such as Garden office <office@garden.example>.")
    to: Any = Field(..., description="To whom: an address, or a list of them in the flow. A value of a document is one address; several go nowhere.")
    cc: Any = Field(None, description="Who gets a copy.")
    bcc: Any = Field(None, description="Who gets a copy that others do not see.")
    subject: str = Field(..., min_length=1, max_length=500, description="The subject.")
    text: str = Field(..., max_length=100_000, description="What it says.")
    html: str | None = Field(None, max_length=500_000, description="The same as simple HTML; values that are put into it are made safe.")
    files: list[Any] = Field(
        default_factory=list, max_length=20, description="Attachments: a file each, such as ${item.file}, or its `file` with a `name`."
    )
    answers: str | None = Field(
        None, description="The Message-ID of the mail that it answers, such as ${item.data.message_id}, so that it stands in its thread."
    )
    sent: Kept | None = Field(None, description="Where sent mails are kept, so that one that was cut off can be looked up.")


def _check(parameters: Mail, around: Around) -> Iterable[Said]:
    known = around.known.connections
    for place, name in (("connection", parameters.connection), *((("sent/connection", parameters.sent.connection),) if parameters.sent else ())):
        if name not in known and around.known.whole:
            yield place, f"There is no connection {name!r}{meant(name, sorted(known))} Known: {', '.join(sorted(known)) or 'none'}."
    if "${" not in parameters.sender and "@" not in parameters.sender:
        yield "sender", f"{parameters.sender!r} is no address of mail."
    if isinstance(parameters.to, str) and "${" not in parameters.to and "@" not in parameters.to:
        yield "to", f"{parameters.to!r} is no address of mail."


def _result(parameters: Mail, around: Around) -> Schema:
    text: Schema = {"type": "string"}
    refused: Schema = {"type": "object", "additionalProperties": text}
    return closed({**BEFORE, "id": text, "to": {"type": "array", "items": text}, "refused": refused})


def _tell(parameters: Mail) -> str:
    files = f" with {len(parameters.files)} file{'s' if len(parameters.files) != 1 else ''}" if parameters.files else ""
    return f"Send a mail to {shown(parameters.to)}: “{shown(parameters.subject)}”{files}."


def _sends(values: Mapping[str, Any]) -> Sends:
    told = {name: values.get(name) for name in ("to", "subject", "text")}
    return Sends("mail", str(values["connection"]), told, values["key"], values["if_sent"] == "again")


SAMPLE = """\
mail: {connection: outgoing, sender: office@garden.example, to: ida@garden.example, subject: "${item.name} came", text: "It is ${checked.record.total}."}
"""
KIND = Kind(
    "mail",
    Mail,
    sends=_sends,
    told=lambda result: told_of("mail", result),
    result=_result,
    check=_check,
    needs=("to", "subject", "text"),
    outward=True,
    repeatable=False,
    uses=lambda parameters: [
        ("connection", each) for each in (parameters.connection, parameters.sent.connection if parameters.sent else None) if each
    ],
    tell=_tell,
    goes=lambda parameters: f"mails by {parameters.connection}",
    would=lambda values: f"A mail would be sent to {shown(values['to'])}: “{values['subject']}”.",
    sample=SAMPLE,
)
