"""A mailbox (IMAP4rev1, RFC 3501): mails of a folder, each once, told as soon as they come where the server does so (IDLE, RFC 2177)."""

from __future__ import annotations

import email
import fnmatch
import hashlib
import time
from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime
from email.message import Message
from email.utils import getaddresses
from pathlib import Path
from typing import Any, Literal

from imapclient.exceptions import IMAPClientError
from pydantic import Field

from metrikon.connections import imap
from metrikon.connections.fetching import FetchFailed
from metrikon.core.flows.coming import Gathered
from metrikon.core.flows.form import ConnectionName
from metrikon.core.values.text import clean
from metrikon.intakes.mail_parts import Attached, attached, decoded
from metrikon.ports.intake import DEPTH_HEADER, Here, IntakeFailed, IntakeKind, Piece, Quiet, Thing, depth_told

HEADS = 200  # mails of which heads are asked at once
AHEAD, AHEAD_BYTES = 16, 4_000_000  # mails that are fetched together, and the most bytes of these
LONGEST_HEADER = 8000  # letters of a header that are looked at
_HEADER = b"BODY[HEADER.FIELDS (MESSAGE-ID FROM TO CC SUBJECT DATE METRIKON-DEPTH)]"
_WANTED = [
    "UID",
    "INTERNALDATE",
    "RFC822.SIZE",
    "FLAGS",
    "BODYSTRUCTURE",
    b"BODY.PEEK[HEADER.FIELDS (MESSAGE-ID FROM TO CC SUBJECT DATE METRIKON-DEPTH)]",
]
KEYWORD = r"^[!#$&'+,./0-9:;<=>?@A-Z\[^_`a-z|}~-]{1,60}$"  # RFC 3501: an atom, without the signs that some servers take for something else


class Mailbox(Gathered):
    """Mails of a folder, as its server tells of them."""

    called = ("mail", "email", "e-mail", "imap", "inbox")

    connection: ConnectionName = Field(..., description="Name of a connection to a mail server (imaps://…).")
    folder: str = Field("INBOX", min_length=1, max_length=200, description="The folder, as its server names it.")
    sender: str | None = Field(None, max_length=200, description="Only mails whose sender has this in name or address.")
    subject: str | None = Field(None, max_length=200, description="Only mails that have this in their subject.")
    keyword: str | None = Field(
        None, pattern=KEYWORD, description="Only mails that have this keyword (label), however old: who sets it starts an item."
    )
    attachments: list[str] = Field(
        default_factory=list,
        max_length=20,
        description="Only mails with an attachment of a name such as `*.pdf`; of these attachments alone something is taken.",
    )
    takes: Literal["mail", "attachments", "together"] = Field(
        "mail", description="What becomes an item: the mail, each attachment by itself, or the mail and its attachments read as one."
    )
    mark: str | None = Field(None, pattern=KEYWORD, description="A keyword that is set on what was taken.")
    move: str | None = Field(None, max_length=200, description="A folder that what was taken is moved to.")
    every: float = Field(
        300.0, ge=5, le=86_400, description="Seconds after which it is looked at anew; sooner where the server tells that something came."
    )


class MailSource(Quiet):
    """The mails of a folder.

    The cursor is the validity of its numbers, the highest of them that was looked at, and those that were taken but are not yet marked or moved: so these
    are, though the service was killed in between.
    """

    waits = True

    def __init__(self, said: Mailbox, here: Here) -> None:
        self.said, self._calling, self._largest = said, here.calling, here.largest
        self.every = said.every
        self._client: imap.Mailserver | None = None
        self._validity = 0
        self._idle = False
        self._bodies: dict[int, bytes] = {}
        self._coming: dict[int, int] = {}  # sizes of mails that are taken next, by their numbers
        self._unsettled: dict[int, None] = {}
        self._after, self._found = 0, list[int]()  # numbers behind which was looked, and those that were there then

    def test(self) -> str:
        client = self._selected()
        count = len(self._asked(client))
        names = ", ".join(imap.folders(client)[:20])
        keeps = client.folder_status(self.said.folder, ["MESSAGES"])[b"MESSAGES"]
        return f"The folder {self.said.folder} holds {keeps} mail{'' if keeps == 1 else 's'}, {count} of them as wanted. Folders: {names}."

    def there(self) -> Iterator[Thing]:
        client = self._selected()
        yield from self._heads(client, self._asked(client)[::-1])

    def new(self, cursor: Any, moment: int) -> Iterator[Thing]:
        client = self._selected()
        if self.said.keyword is not None:
            self._after, self._found = 0, self._asked(client)
            yield from self._heads(client, self._found)
            return
        same = cursor is not None and cursor["validity"] == self._validity
        after = int(cursor["number"]) if same else 0
        for number in cursor.get("open", ()) if same else ():
            self._finish(int(number), f"number {number}")
        self._after, self._found = after, self._asked(client, after)
        yield from self._heads(client, self._found)

    def makes(self, thing: Thing) -> int:
        wanted = thing.data["attachments"]
        if self.said.takes == "attachments":
            return len(wanted)
        return 1 if wanted or not self.said.attachments else 0

    def get(self, thing: Thing) -> Sequence[Piece]:
        number = int(thing.key)
        if self.said.attachments and not thing.data["attachments"]:
            return []
        if number not in self._bodies:
            self._fetch(number)
        body = self._bodies.pop(number, None)
        if body is None:
            raise IntakeFailed(f"The mail {thing.name} is gone from the folder {self.said.folder}.", gone=True)
        if thing.cursor is not None and self._finishes:
            self._unsettled[number] = None
            thing.cursor["open"] = list(self._unsettled)
        only = tuple(self.said.attachments)
        within: Literal["", "each", "together"] = {"attachments": "each", "together": "together"}.get(self.said.takes, "")  # type: ignore[assignment]
        wanted = only or (("*",) if within == "each" else ())
        return [Piece(thing.name, body, within=within, only=wanted)]

    def settle(self, thing: Thing, *, taken: bool) -> None:
        if taken and self._finishes:
            self._finish(int(thing.key), thing.name)
        self._unsettled.pop(int(thing.key), None)

    @property
    def _finishes(self) -> bool:
        """Whether something is done with what was taken."""
        return self.said.mark is not None or self.said.move is not None

    def _finish(self, number: int, name: str) -> None:
        client = self._selected()
        try:
            if self.said.mark is not None:
                client.add_flags([number], [self.said.mark.encode()], silent=True)
            if self.said.move is not None:
                _moved(client, number, self.said.move)
        except imap.DOWN as error:
            self._lost()
            raise IntakeFailed(f"The mail {name} was taken, but could not be marked or moved: {_why(error)}") from error

    def wait(self, seconds: float) -> bool:
        client = self._client if self._client is not None and self._idle else self._selected()
        if not client.has_capability("IDLE"):
            time.sleep(seconds)
            return False
        if not self._idle and self._asked(client, self._after) != self._found:
            return True  # it came while one was looking
        began = time.monotonic()
        try:
            if not self._idle:
                client.idle()
                self._idle = True
            told = client.idle_check(timeout=seconds)
        except imap.DOWN as error:
            self._lost()
            raise IntakeFailed(f"The mail server broke off: {_why(error)}") from error
        if not told and time.monotonic() - began < seconds / 2:  # the library tells the end of a connection so
            self._lost()
            raise IntakeFailed("The mail server broke off.")
        return any(each[1:2] in ((b"EXISTS",), (b"FETCH",)) for each in told)

    def close(self) -> None:
        self._lost()

    def _selected(self) -> imap.Mailserver:
        """A client with the folder selected, out of its waiting. Raises `IntakeFailed`."""
        try:
            if self._client is not None and self._idle:
                self._idle = False
                self._client.idle_done()
            if self._client is not None:
                self._client.noop()
        except imap.DOWN:
            self._lost()
        if self._client is None:
            self._client = self._opened()
        return self._client

    def _opened(self) -> imap.Mailserver:
        name = self.said.connection
        try:
            client: imap.Mailserver = self._calling.mail(name)
        except FetchFailed as error:
            raise IntakeFailed(str(error), wait=error.wait) from error
        try:
            told = client.select_folder(self.said.folder, readonly=not self._finishes)
        except IMAPClientError as error:
            known = ", ".join(imap.folders(client)[:20])
            client.shutdown()
            raise IntakeFailed(f"There is no folder {self.said.folder!r} in the mailbox of {name}. Folders: {known}. Correct the flow.") from error
        except imap.DOWN as error:
            client.shutdown()
            raise IntakeFailed(f"The mail server broke off: {_why(error)}") from error
        self._validity = int(told[b"UIDVALIDITY"])
        return client

    def _lost(self) -> None:
        client, self._client, self._idle = self._client, None, False
        self._bodies.clear()
        self._coming.clear()
        if client is not None:
            try:
                client.shutdown()
            except imap.DOWN:
                pass  # it was closed already

    def _asked(self, client: imap.Mailserver, after: int = 0) -> list[int]:
        """The numbers of mails that are as wanted, as far as the server can tell, the lowest first."""
        said = self.said
        wanted: list[Any] = ["UID", f"{after + 1}:*"] if after else []
        wanted += ["UNDELETED"]
        for name, value in (("SINCE", said.since), ("FROM", said.sender), ("SUBJECT", said.subject), ("KEYWORD", said.keyword)):
            wanted += [name, value] if value is not None else []
        wanted += ["UNKEYWORD", said.mark] if said.mark is not None and said.keyword is not None else []
        plain = all(str(each).isascii() for each in wanted)
        try:
            found = [int(each) for each in client.search(wanted, None if plain else "UTF-8")]
        except imap.DOWN as error:
            self._lost()
            raise IntakeFailed(f"The folder {said.folder} could not be searched: {_why(error)}") from error
        return sorted(number for number in found if number > after)  # the last one is always told

    def _heads(self, client: imap.Mailserver, numbers: Sequence[int]) -> Iterator[Thing]:
        for start in range(0, len(numbers), HEADS):
            part = numbers[start : start + HEADS]
            try:
                heads = client.fetch(part, _WANTED)
            except imap.DOWN as error:
                self._lost()
                raise IntakeFailed(f"The folder {self.said.folder} could not be looked at: {_why(error)}") from error
            known = [number for number in part if number in heads]  # others were deleted meanwhile
            self._coming |= {number: int(heads[number][b"RFC822.SIZE"]) for number in known}
            for number in known:
                yield self._thing(number, heads[number])

    def _thing(self, number: int, head: Mapping[bytes, Any]) -> Thing:
        message = email.message_from_bytes(head.get(_HEADER) or b"")
        came = head[b"INTERNALDATE"]
        at = int(came.timestamp() * 1000) if isinstance(came, datetime) else 0
        size = int(head[b"RFC822.SIZE"])
        names = attached(head.get(b"BODYSTRUCTURE"))
        wanted = [each for each in names if not self.said.attachments or any(_like(each.name, pattern) for pattern in self.said.attachments)]
        data = _told(message, wanted, at) | {"folder": self.said.folder, "keywords": _keywords(head.get(b"FLAGS", ()))}
        told = "\n".join([data["message_id"], str(at), str(size), data["from"]["address"], data["subject"]])
        cursor = {"validity": self._validity, "number": number} if self.said.keyword is None else None
        name = f"{data['subject'][:80] or 'without subject'}.eml"
        return Thing(
            hashlib.sha256(told.encode()).hexdigest()[:40],
            name,
            at,
            size,
            data,
            key=number,
            cursor=cursor,
            depth=depth_told(str(message[DEPTH_HEADER] or "").strip()),
        )

    def _fetch(self, number: int) -> None:
        """Fetch a mail, and with it some that come after it."""
        size = 0
        numbers: list[int] = []
        for each in (number, *(each for each in self._coming if each > number)):
            bytes_ = self._coming.get(each, 0)
            if len(numbers) >= AHEAD or (numbers and (size + bytes_ > AHEAD_BYTES or bytes_ > self._largest)):
                break
            numbers.append(each)
            size += bytes_
        self._coming = {each: bytes_ for each, bytes_ in self._coming.items() if each > numbers[-1]}
        client = self._selected()
        try:
            found = client.fetch(numbers, [b"BODY.PEEK[]"])
        except imap.DOWN as error:
            self._lost()
            raise IntakeFailed(f"The mail server broke off while a mail was fetched: {_why(error)}") from error
        self._bodies = {each: bytes(parts[b"BODY[]"]) for each, parts in found.items() if parts.get(b"BODY[]") is not None}


def _moved(client: imap.Mailserver, number: int, folder: str) -> None:
    """Move a mail (RFC 6851, or as one did before it)."""
    if client.has_capability("MOVE"):
        client.move([number], folder)
        return
    client.copy([number], folder)
    client.delete_messages([number], silent=True)
    if client.has_capability("UIDPLUS"):
        client.uid_expunge([number])


def _told(message: Message, attachments: Sequence[Attached], at: int) -> dict[str, Any]:
    """What is known of a mail by its head."""
    senders = _addresses(message, "from")
    return {
        "from": senders[0] if senders else {"name": "", "address": ""},
        "to": [*_addresses(message, "to"), *_addresses(message, "cc")][:50],
        "subject": _header(message, "subject"),
        "sent": datetime.fromtimestamp(at / 1000, UTC).isoformat(timespec="seconds"),
        "message_id": _header(message, "message-id"),
        "attachments": [{"name": each.name, "type": each.media, "size": each.size} for each in attachments][:100],
    }


def _header(message: Message, name: str) -> str:
    return " ".join(clean(decoded(str(message[name] or "")[:LONGEST_HEADER])).split())[:500]


def _addresses(message: Message, name: str) -> list[dict[str, str]]:
    found = getaddresses([str(each)[:LONGEST_HEADER] for each in message.get_all(name, [])])
    return [{"name": clean(decoded(shown))[:200], "address": clean(address)[:320].lower()} for shown, address in found if shown or address][:50]


def _keywords(flags: Sequence[bytes]) -> list[str]:
    return sorted(each.decode("ascii", "replace") for each in flags if not each.startswith(b"\\"))[:50]


def _like(name: str, pattern: str) -> bool:
    return fnmatch.fnmatchcase(name.casefold(), pattern.casefold())


def _why(error: BaseException) -> str:
    return f"{type(error).__name__}."


def _place(said: Mailbox, home: Path) -> str:
    return f"{said.connection}, {said.folder}"


def _tell(said: Mailbox) -> str:
    what = {"mail": "mails", "attachments": "attachments of mails", "together": "mails with their attachments"}[said.takes]
    only = f" that have the keyword {said.keyword}" if said.keyword else ""
    return f"{what} in {said.folder} of {said.connection}{only}"


GIVES = {
    "from": "The sender, with name and address.",
    "to": "Who else it went to, each with name and address; copies count.",
    "subject": "Its subject.",
    "sent": "When it came (RFC 3339, UTC).",
    "message_id": "Its Message-ID, by which it is answered.",
    "attachments": "Its attachments that are wanted, each with name, type and size in bytes.",
    "folder": "The folder that it was in.",
    "keywords": "Its keywords.",
}
KIND = IntakeKind("mailbox", Mailbox, _tell, _place, MailSource, reaches=True, gives=GIVES)
