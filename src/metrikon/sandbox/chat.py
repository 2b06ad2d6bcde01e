"""A chat with rooms, over the Matrix client-server API: what one needs to read and to write in them. People say things on its page."""

from __future__ import annotations

import secrets
import time
from dataclasses import dataclass, field
from typing import Any

from flask import Blueprint, Response, abort, jsonify, redirect, request

from metrikon.sandbox.letting_in import TOKEN as TOKEN
from metrikon.sandbox.letting_in import lets_in
from metrikon.sandbox.page import page

ME, SERVER = "@metrikon:sandbox", "sandbox"
KINDS = {"image": "m.image", "audio": "m.audio", "video": "m.video"}  # of a message, by what is sent
API = "/_matrix/client/v3"


@dataclass
class Room:
    """A room: who is in it, whether it is encrypted, what was said."""

    id: str
    alias: str
    members: list[str] = field(default_factory=lambda: [ME])
    encrypted: bool = False
    events: list[dict[str, Any]] = field(default_factory=list)


class ChatServer:
    """The rooms and files."""

    def __init__(self) -> None:
        self.rooms = {
            each.id: each
            for each in (
                Room("!receipts:sandbox", "#receipts:sandbox"),
                Room("!tours:sandbox", "#tours:sandbox"),
                Room("!trustees:sandbox", "#trustees:sandbox", encrypted=True),
            )
        }
        self.files: dict[str, tuple[str, bytes]] = {}

    def say(self, room: str, sender: str, text: str, *, file: tuple[str, str, bytes] | None = None, thread: str = "") -> str:
        """Somebody says something, or sends a file (kind, name, bytes); the id of the message."""
        content: dict[str, Any] = {"msgtype": "m.text", "body": text}
        if file is not None:
            kind, name, data = file
            media = secrets.token_hex(8)
            self.files[media] = (name, data)
            content = {"msgtype": kind, "body": name, "filename": name, "url": f"mxc://{SERVER}/{media}", "info": {"size": len(data)}}
        if thread:
            content["m.relates_to"] = {"rel_type": "m.thread", "event_id": thread}
        event = {
            "type": "m.room.encrypted" if self.rooms[room].encrypted else "m.room.message",
            "event_id": f"${secrets.token_hex(12)}",
            "sender": sender,
            "origin_server_ts": int(time.time() * 1000),
            "content": {"algorithm": "m.megolm.v1.aes-sha2"} if self.rooms[room].encrypted else content,
        }
        self.rooms[room].events.append(event)
        return str(event["event_id"])


def blueprint(server: ChatServer) -> Blueprint:
    """Its API and its page."""
    api = Blueprint("chat", __name__)

    def signed_in() -> None:
        if not lets_in(request.headers.get("Authorization")):
            abort(Response('{"errcode": "M_UNKNOWN_TOKEN"}', 401))

    def room_of(id_: str) -> Room:
        signed_in()
        found = server.rooms.get(id_)
        if found is None or ME not in found.members:
            abort(Response('{"errcode": "M_FORBIDDEN"}', 403))
        return found

    @api.get("/_matrix/client/versions")
    def versions() -> Any:
        return jsonify(versions=["v1.11"])

    @api.get(f"{API}/account/whoami")
    def whoami() -> Any:
        signed_in()
        return jsonify(user_id=ME)

    @api.get(f"{API}/joined_rooms")
    def joined() -> Any:
        signed_in()
        return jsonify(joined_rooms=[each.id for each in server.rooms.values() if ME in each.members])

    @api.get(f"{API}/directory/room/<alias>")
    def directory(alias: str) -> Any:
        found = next((each for each in server.rooms.values() if each.alias == alias), None)
        return jsonify(room_id=found.id, servers=[SERVER]) if found else abort(Response('{"errcode": "M_NOT_FOUND"}', 404))

    @api.get(f"{API}/rooms/<id_>/state/m.room.encryption")
    def encryption(id_: str) -> Any:
        return jsonify(algorithm="m.megolm.v1.aes-sha2") if room_of(id_).encrypted else abort(Response('{"errcode": "M_NOT_FOUND"}', 404))

    @api.get(f"{API}/rooms/<id_>/messages")
    def messages(id_: str) -> Any:
        events, limit = room_of(id_).events, request.args.get("limit", 10, int)
        back = request.args.get("dir") == "b"
        at = int(request.args.get("from", str(len(events) if back else 0)))
        part = events[max(0, at - limit) : at][::-1] if back else events[at : at + limit]
        end = at - len(part) if back else at + len(part)
        more = end > 0 if back else bool(part)
        return jsonify({"start": str(at), "chunk": part, **({"end": str(end)} if more else {})})

    @api.put(f"{API}/rooms/<id_>/send/m.room.message/<transaction>")
    def send(id_: str, transaction: str) -> Any:
        room = room_of(id_)
        known = next((each for each in room.events if each.get("transaction") == transaction), None)
        if known is None:
            said = request.get_json() or {}
            thread = (said.get("m.relates_to") or {}).get("event_id", "")
            event = server.say(id_, ME, str(said.get("body", "")), thread=thread)
            room.events[-1]["content"] |= said
            room.events[-1]["transaction"] = transaction
            return jsonify(event_id=event)
        return jsonify(event_id=known["event_id"])

    @api.post("/_matrix/media/v3/upload")
    def upload() -> Any:
        signed_in()
        media = secrets.token_hex(8)
        server.files[media] = (request.args.get("filename", "file"), request.get_data())
        return jsonify(content_uri=f"mxc://{SERVER}/{media}")

    @api.get("/_matrix/client/v1/media/download/<server_name>/<media>")
    def download(server_name: str, media: str) -> Any:
        found = server.files.get(media) if lets_in(request.headers.get("Authorization")) else None
        return Response(found[1], content_type="application/octet-stream") if found else abort(404)

    @api.get("/chat")
    def look() -> Any:
        rooms = [
            (each.alias, [(event["sender"], event["content"].get("body", "(encrypted)")) for event in each.events[-20:]], each.id)
            for each in server.rooms.values()
        ]
        lines = [f"{alias}: {sender} said “{text}”" for alias, said, _ in rooms for sender, text in said]
        return page(
            "A chat with rooms",
            f"Token: {TOKEN}. Rooms: {', '.join(alias for alias, _, _ in rooms)}.",
            lines,
            {"/chat/say": ("Ada says", "12 on potting soil")},
            upload=("/chat/say", "Ada sends a picture, a voice note or another file"),
        )

    @api.post("/chat/say")
    def said() -> Any:
        sent = request.files.get("file")
        if sent is None:
            server.say("!receipts:sandbox", "@ada:sandbox", request.form.get("text", "")[:2000])
        else:
            kind = KINDS.get(str(sent.mimetype).partition("/")[0], "m.file")
            server.say("!receipts:sandbox", "@ada:sandbox", "", file=(kind, sent.filename or "file", sent.read()))
        return redirect("/chat")

    return api
