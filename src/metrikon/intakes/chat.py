"""Rooms of a chat (Matrix, client-server API v1.11): text, pictures, voice and files of chosen rooms and people, each message once."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from urllib.parse import quote, urlencode

from pydantic import Field

from metrikon.connections.fetching import Fetched, FetchFailed, Wanted
from metrikon.core.flows.coming import Gathered, Repeats
from metrikon.core.flows.form import ConnectionName
from metrikon.core.values.exact import NotJson, loads
from metrikon.core.values.text import clean
from metrikon.ports.intake import Here, IntakeFailed, IntakeKind, Piece, Quiet, Thing

API = "_matrix/client/v3"
A_PAGE, BACK = 100, 2000  # messages that are asked for at once; that are looked through in a room that is new to us
LARGEST_LIST = 5_000_000  # bytes of a page of messages
SECONDS = 60.0
FILES = {"m.image": "picture", "m.audio": "recording", "m.video": "film", "m.file": "file"}


class Chat(Gathered):
    """Messages of rooms."""

    called = ("matrix", "room")

    connection: ConnectionName = Field(..., description="Name of a connection to the chat's server, by a bearer token.")
    rooms: list[str] = Field(..., min_length=1, max_length=50, description="Rooms, such as #receipts:garden.example.")
    people: list[str] = Field(default_factory=list, max_length=200, description="Only messages of these people, such as @ada:garden.example.")
    every: float = Field(15.0, ge=2, le=86_400, description="Seconds after which it is looked at anew.")


class ChatSource(Quiet):
    """The messages of some rooms. The cursor is where one stands in each of them."""

    def __init__(self, said: Chat, here: Here) -> None:
        self.said, self._calling, self._largest = said, here.calling, here.largest
        self.every = said.every
        self._ids: dict[str, str] = {}
        self._me = ""

    def test(self) -> str:
        rooms = [self._room(each) for each in self.said.rooms]
        return f"It is signed in as {self._own()}; {len(rooms)} room{'s' if len(rooms) != 1 else ''} can be read: {', '.join(self.said.rooms)}."

    def there(self) -> Iterator[Thing]:
        found = [thing for room in self.said.rooms for thing in self._back(room)[0]]
        yield from sorted(found, key=lambda each: -each.at)

    def new(self, cursor: Any, moment: int) -> Iterator[Thing]:
        stand: dict[str, str] = dict(cursor or {})
        for room in self.said.rooms:
            id_ = self._room(room)
            if id_ in stand:
                things, after = self._forward(room, stand[id_])
            else:
                things, after = self._back(room)
            after_it = {**stand, id_: after}
            for number, each in enumerate(things):
                yield _at(each, after_it if number == len(things) - 1 else dict(stand))
            if not things and after_it != stand:
                yield Thing("", "", moment, cursor=after_it, taken=True)
            stand = after_it

    def get(self, thing: Thing) -> list[Piece]:
        event = thing.key
        content = event["content"]
        if content.get("msgtype") not in FILES:
            return [Piece(thing.name, str(thing.data["text"]).encode())]
        place = str(content.get("url", ""))
        server, _, media = place.removeprefix("mxc://").partition("/")
        if not place.startswith("mxc://") or not server or not media:
            raise IntakeFailed(f"The message {thing.name} holds no file that can be had.", gone=True)
        wanted = f"{quote(server)}/{quote(media)}"
        try:
            found = self._fetched(f"_matrix/client/v1/media/download/{wanted}", self._largest)
        except FetchFailed as error:
            if error.status not in (400, 404, 405):
                raise IntakeFailed(str(error), wait=error.wait) from error
            try:
                found = self._fetched(f"_matrix/media/v3/download/{wanted}", self._largest)  # as servers before v1.11 have it
            except FetchFailed as later:
                raise IntakeFailed(str(later), wait=later.wait, gone=later.status == 404) from later
        return [Piece(thing.name, found.data or b"")]

    def _back(self, room: str) -> tuple[list[Thing], str]:
        """The messages of a room up to now, the oldest first, and where one stands after them."""
        at, stand, found = "", "", []
        for _ in range(BACK // A_PAGE):
            page = self._messages(room, {"dir": "b", **({"from": at} if at else {})})
            stand = stand or str(page.get("start") or "")
            found += [thing for event in page["chunk"] if (thing := self._thing(room, event)) is not None]
            at = str(page.get("end") or "")
            if not at or not page["chunk"]:
                break
        return found[::-1], stand

    def _forward(self, room: str, stand: str) -> tuple[list[Thing], str]:
        found, seen = [], set[str]()
        while stand not in seen and len(seen) < BACK // A_PAGE:
            seen.add(stand)
            page = self._messages(room, {"dir": "f", "from": stand})
            found += [thing for event in page["chunk"] if (thing := self._thing(room, event)) is not None]
            if not page["chunk"] or not page.get("end"):
                break
            stand = str(page["end"])
        return found, stand

    def _messages(self, room: str, query: Mapping[str, str]) -> dict[str, Any]:
        page = self._asked(f"rooms/{quote(self._room(room))}/messages?{urlencode({**query, 'limit': A_PAGE})}")
        if not isinstance(page.get("chunk"), list):
            raise IntakeFailed(f"The chat's server gave no messages of {room}.")
        if any(isinstance(each, Mapping) and each.get("type") == "m.room.encrypted" for each in page["chunk"]):
            raise IntakeFailed(_encrypted(room))
        return page

    def _thing(self, room: str, event: Any) -> Thing | None:
        """A message; None for what is none, or is of nobody that is wanted."""
        content = event.get("content") if isinstance(event, Mapping) else None
        if not isinstance(content, Mapping) or event.get("type") != "m.room.message" or not content.get("msgtype"):
            return None
        sender, text = str(event.get("sender", "")), str(content.get("body") or "")
        relates = content.get("m.relates_to")
        if sender == self._own() or (self.said.people and sender not in self.said.people):
            return None
        if isinstance(relates, Mapping) and relates.get("rel_type") == "m.replace":
            return None  # what was corrected later is not said anew
        kind = FILES.get(str(content["msgtype"]), "text")
        at = int(event["origin_server_ts"]) if isinstance(event.get("origin_server_ts"), int) else 0
        info = content.get("info")
        size = info.get("size") if isinstance(info, Mapping) else None
        name = clean(str(content.get("filename") or text))[:120] if kind != "text" else f"{clean(text)[:60] or 'message'}.txt"
        thread = relates.get("event_id") if isinstance(relates, Mapping) and relates.get("rel_type") == "m.thread" else event.get("event_id")
        told = {
            "room": room,
            "from": sender,
            "kind": kind,
            "text": "\n".join(clean(line) for line in text.splitlines())[:20_000],
            "event": str(event.get("event_id", "")),
            "thread": str(thread or ""),
            "sent": datetime.fromtimestamp(at / 1000, UTC).isoformat(timespec="seconds"),
        }
        return Thing(told["event"], name or kind, at, size if isinstance(size, int) and size > 0 else len(text), told, key={"content": dict(content)})

    def _room(self, name: str) -> str:
        """The id of a room. Raises `IntakeFailed` for one that is not there, is not joined, or is encrypted."""
        if name not in self._ids:
            id_ = name if name.startswith("!") else str(self._asked(f"directory/room/{quote(name, safe='')}").get("room_id", ""))
            if id_ not in self._asked("joined_rooms").get("joined_rooms", []):
                raise IntakeFailed(f"{self._own()} is not in the room {name}. Invite it, and let it join.")
            try:
                self._fetched(f"{API}/rooms/{quote(id_)}/state/m.room.encryption", LARGEST_LIST)
            except FetchFailed as error:
                if error.status != 404:
                    raise _failed(error) from error
            else:
                raise IntakeFailed(_encrypted(name))
            self._ids[name] = id_
        return self._ids[name]

    def _own(self) -> str:
        self._me = self._me or str(self._asked("account/whoami").get("user_id", ""))
        return self._me

    def _asked(self, path: str) -> dict[str, Any]:
        try:
            found = self._fetched(f"{API}/{path}", LARGEST_LIST)
        except FetchFailed as error:
            raise _failed(error) from error
        try:
            read = loads(found.data or b"")
        except NotJson as error:
            raise IntakeFailed(f"{found.url} does not answer as a chat's server does.") from error
        if not isinstance(read, dict):
            raise IntakeFailed(f"{found.url} does not answer as a chat's server does.")
        return read

    def _fetched(self, path: str, most: int) -> Fetched:
        found: Fetched = self._calling.fetch(Wanted(path, most, SECONDS, connection=self.said.connection))
        return found


def _failed(error: FetchFailed) -> IntakeFailed:
    """What a status means at a chat's server."""
    told = {401: "the token is not valid, or no longer", 403: "it is not allowed", 404: "it is not there"}.get(error.status)
    return IntakeFailed(f"{error}{f' That means: {told}.' if told else ''}", wait=error.wait)


def _at(thing: Thing, cursor: dict[str, str]) -> Thing:
    return Thing(thing.identity, thing.name, thing.at, thing.size, thing.data, thing.key, cursor)


def _encrypted(room: str) -> str:
    return f"The room {room} is encrypted from end to end: what is said there cannot be read here. Use a room that is not."


def _place(said: Chat, home: Path) -> str:
    return json.dumps([said.connection, *said.rooms])


def _repeats(said: Chat, data: Any) -> Repeats:
    """Who says the same twice means both ("12 on potting soil"); a picture that comes twice is a likely repeat."""
    return said.repeats or ("take" if isinstance(data, Mapping) and data.get("kind") == "text" else "hold")


GIVES = {
    "room": "The room.",
    "from": "Who said it.",
    "kind": "text, picture, recording, film or file.",
    "text": "What was said, or the name of the file.",
    "event": "The id of the message, which `post` answers.",
    "thread": "The id of the message that its thread began with.",
    "sent": "When it was said (RFC 3339, UTC).",
}
KIND = IntakeKind("chat", Chat, lambda said: f"messages in {', '.join(said.rooms)}", _place, ChatSource, repeats=_repeats, reaches=True, gives=GIVES)
