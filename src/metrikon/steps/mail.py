"""mail: hand a mail to a server, once. One that was cut off is looked for among the sent ones before anything else is done."""

from __future__ import annotations

import hashlib
import html
import mimetypes
from collections.abc import Mapping
from email.message import EmailMessage
from email.utils import format_datetime, formataddr, getaddresses, parseaddr
from typing import Any

from metrikon.connections import imap, smtp
from metrikon.connections.fetching import FetchFailed
from metrikon.core.feel import BadExpression, FeelError
from metrikon.core.feel.holes import fill_text
from metrikon.core.values.text import clean
from metrikon.ports.step import Call, Outcome, StepFailed, Workshop
from metrikon.steps.failing import not_reached

UNSURE = "Whether the mail went out cannot be told. Look among the sent mails: then say that it went, or send it again."


def run(call: Call, workshop: Workshop) -> Outcome:
    """The id of the mail, to whom it went, and who was refused."""
    given = call.parameters
    id_ = f"<{hashlib.sha256(f'{call.run_id} {call.path}'.encode()).hexdigest()[:32]}@metrikon>"
    sender, to = _one(given["sender"]), [each for name in ("to", "cc", "bcc") for each in _addresses(call, name)]
    result = {"id": id_, "to": [parseaddr(each)[1] for each in to], "refused": {}}
    if call.cut_off:
        if _found_sent(call, workshop, id_):
            return Outcome(result)
        raise StepFailed(f"The service was stopped while the mail was handed over. {UNSURE}", unsure=result)
    message = _message(call, workshop, id_, sender)
    try:
        session = workshop.sender(str(given["connection"]))
        try:
            refused = smtp.send(session, message, parseaddr(sender)[1], [parseaddr(each)[1] for each in to])
        finally:
            session.close()
    except FetchFailed as error:
        if error.sent and not _found_sent(call, workshop, id_):
            raise StepFailed(f"{error} {UNSURE}", unsure=result) from error
        if not error.sent:
            raise not_reached(error) from error
        refused = {}
    _keep(call, workshop, message)
    return Outcome({**result, "refused": refused})


def _addresses(call: Call, name: str) -> list[str]:
    """To whom a mail goes. Several only where the flow itself lists them: a value that comes from elsewhere is one address, whatever stands in it."""
    given, said = call.parameters.get(name), getattr(call.said, name, None)
    if not given:
        return []
    if isinstance(said, str) and "${" not in said:
        return [_one(each) for each in said.split(",") if each.strip()]
    if isinstance(given, list) and not isinstance(said, list):
        if len(given) > 1:
            raise StepFailed(
                f"`{name}` is one value that holds {len(given)} addresses. Mails go to several only where the flow lists them: [${{…}}, ${{…}}]. Correct the flow, then continue."
            )
        return [_one(each) for each in given]
    return [_one(each) for each in (given if isinstance(given, list) else [given])]


def _one(given: Any) -> str:
    """An address, perhaps with a name; several in one, and one that would break a header, are refused."""
    told = str(given).strip()
    if isinstance(given, list) or (told.isprintable() and len(getaddresses([told])) > 1):
        raise StepFailed(f"{str(given)[:120]!r} is more than one address of mail, in one value. List them in the flow, then continue.")
    name, address = parseaddr(str(given).strip())
    if not address or "@" not in address or address.count("@") > 1 or not str(given).strip().isprintable() or " " in address:
        raise StepFailed(f"{str(given)[:120]!r} is no address of mail. Correct the record or the flow, then continue.")
    return formataddr((clean(name), address))


def _message(call: Call, workshop: Workshop, id_: str, sender: str) -> EmailMessage:
    given = call.parameters
    message = EmailMessage()
    message["From"], message["Message-ID"] = sender, id_
    message["Date"] = format_datetime(call.moment) if call.moment is not None else None
    for head, name in (("To", "to"), ("Cc", "cc")):
        if addresses := _addresses(call, name):
            message[head] = ", ".join(addresses)
    for name, value in workshop.outside.depths.header().items():
        message[name] = value
    message["Subject"] = " ".join(clean(str(given["subject"])).split())
    if given.get("answers"):
        answered = clean(str(given["answers"])).strip()
        message["In-Reply-To"] = message["References"] = answered if answered.startswith("<") else f"<{answered}>"
    message.set_content("\n".join(clean(line) for line in str(given["text"]).splitlines()) + "\n")
    if given.get("html"):
        try:
            marked = fill_text(call.said.html, call.scope, call.moment, lambda value: html.escape(clean(value)))
        except (BadExpression, FeelError) as error:
            raise StepFailed(f"The HTML of the mail could not be worked out: {error} Correct the flow, then continue.") from error
        message.add_alternative(marked, subtype="html")
    for number, each in enumerate(given.get("files") or (), 1):
        _attach(message, each, number, workshop)
    return message


def _attach(message: EmailMessage, given: Any, number: int, workshop: Workshop) -> None:
    file, name = (str(given.get("file", "")), given.get("name")) if isinstance(given, Mapping) else (str(given), None)
    try:
        data = workshop.file(file)
    except (KeyError, ValueError) as error:
        raise StepFailed(f"Attachment {number} is no file that is kept here: {file[:80]!r}. Name one, such as ${{item.file}}.") from error
    shown = "".join(sign for sign in str(name or f"file-{number}") if sign.isprintable() and sign not in '/\\"').strip()[:150] or f"file-{number}"
    kind = mimetypes.guess_type(shown)[0] or "application/octet-stream"
    main, _, sub = kind.partition("/")
    message.add_attachment(data, maintype=main, subtype=sub, filename=shown)


def _found_sent(call: Call, workshop: Workshop, id_: str) -> bool:
    """Whether a mail is among those that were sent."""
    said = call.parameters.get("sent")
    if not said:
        return False
    try:
        client = workshop.mailbox(str(said["connection"]))
        try:
            client.select_folder(str(said["folder"]), readonly=True)
            return bool(client.search(["HEADER", "Message-ID", id_]))
        finally:
            client.shutdown()
    except (FetchFailed, *imap.DOWN):
        return False


def _keep(call: Call, workshop: Workshop, message: EmailMessage) -> None:
    """Put a mail among those that were sent. It has gone out: that it cannot be put there is no failure of it."""
    said = call.parameters.get("sent")
    if not said or not said.get("put", True):
        return
    try:
        client = workshop.mailbox(str(said["connection"]))
        try:
            client.append(str(said["folder"]), message.as_bytes(), ("\\Seen",))
        finally:
            client.shutdown()
    except (FetchFailed, *imap.DOWN):
        return
