"""post: a message in a room of a chat (Matrix, client-server API v1.11), or a payload to an address; both under an id that stays when they are repeated."""

from __future__ import annotations

import html
import uuid
from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Any
from urllib.parse import quote

from metrikon.connections.fetching import Fetched, FetchFailed, Wanted
from metrikon.core.values.exact import NotJson, as_kept, dumps, loads
from metrikon.core.values.text import clean
from metrikon.ports.step import Call, Outcome, StepFailed, Workshop
from metrikon.steps.failing import not_reached

API, LARGEST, SECONDS = "_matrix/client/v3", 1_000_000, 60.0
PICTURES = {b"\x89PNG": "image/png", b"\xff\xd8\xff": "image/jpeg", b"GIF8": "image/gif"}
MOST_ROWS = 50  # of a table in a message


def run(call: Call, workshop: Workshop) -> Outcome:
    """The id of the message, or that under which the payload went."""
    given = call.parameters
    own = uuid.uuid5(uuid.NAMESPACE_URL, f"metrikon {call.run_id} {call.path}").hex
    try:
        return Outcome({"id": _said(call, workshop, own) if given.get("room") else _handed(call, workshop, own)})
    except FetchFailed as error:
        told = f" It says: {clean(error.told)[:300]}" if error.told and error.status in (400, 403, 404, 409, 413, 422) else ""
        raise not_reached(error, f"{error}{told}") from error


def _handed(call: Call, workshop: Workshop, own: str) -> str:
    """A payload as JSON. Its id is sent along as Standard Webhooks has it, and as an idempotency key."""
    given, id_ = call.parameters, f"msg_{own}"
    headers = {"Content-Type": "application/json", "webhook-id": id_, "Idempotency-Key": id_}
    good = (200, 201, 202, 203, 204)
    body = dumps(as_kept(given["payload"]))
    workshop.call(_wanted(str(given["connection"]), str(given.get("path") or ""), "POST", body, headers, good))
    return id_


def _said(call: Call, workshop: Workshop, own: str) -> str:
    given = call.parameters
    connection, room = str(given["connection"]), _room(call, workshop)
    content: dict[str, Any] = {}
    last = ""
    if given.get("text") is not None or given.get("table") is not None:
        content = _text(str(given.get("text") or ""), given.get("table"))
        last = _sent(workshop, connection, room, f"{own}-1", content, given.get("thread"))
    if given.get("file"):
        content = _file(call, workshop, connection)
        last = _sent(workshop, connection, room, f"{own}-2", content, given.get("thread"))
    return last


def _room(call: Call, workshop: Workshop) -> str:
    """The id of a room. Raises `StepFailed` for one that is encrypted."""
    connection, name = str(call.parameters["connection"]), str(call.parameters["room"])
    if not name.startswith("!"):
        found = _read(workshop.call(_wanted(connection, f"{API}/directory/room/{quote(name, safe='')}")))
        id_ = str(found.get("room_id", ""))
    else:
        id_ = name
    try:
        workshop.call(_wanted(connection, f"{API}/rooms/{quote(id_)}/state/m.room.encryption"))
    except FetchFailed as error:
        if error.status in (403, 404):
            return id_
        raise
    raise StepFailed(f"The room {name} is encrypted from end to end, and nothing can be said there in the clear. Use a room that is not.")


def _sent(workshop: Workshop, connection: str, room: str, own: str, content: dict[str, Any], thread: Any) -> str:
    """Say something; the server takes the same transaction once."""
    if thread:
        content = {**content, "m.relates_to": {"rel_type": "m.thread", "event_id": str(thread)}}
    path = f"{API}/rooms/{quote(room)}/send/m.room.message/{own}"
    return str(_read(workshop.call(_wanted(connection, path, "PUT", dumps(content), {"Content-Type": "application/json"}))).get("event_id", ""))


def _text(said: str, table: Any) -> dict[str, Any]:
    said = "\n".join(clean(line) for line in said.splitlines())
    rows = [each for each in table if isinstance(each, Mapping)] if isinstance(table, Sequence) and not isinstance(table, str) else []
    if not rows:
        return {"msgtype": "m.text", "body": said}
    heads = list(dict.fromkeys(str(name) for row in rows for name in row))
    shown = [[_cell(row.get(head)) for head in heads] for row in rows[:MOST_ROWS]]
    more = f"\n… and {len(rows) - MOST_ROWS} more" if len(rows) > MOST_ROWS else ""
    plain = "\n".join([said, *(" · ".join(f"{head}: {cell}" for head, cell in zip(heads, row, strict=True) if cell) for row in shown)]).strip() + more
    head = "".join(f"<th>{html.escape(each)}</th>" for each in heads)
    body = "".join(f"<tr>{''.join(f'<td>{html.escape(cell)}</td>' for cell in row)}</tr>" for row in shown)
    marked = f"<p>{html.escape(said)}</p><table><tr>{head}</tr>{body}</table>{html.escape(more)}"
    return {"msgtype": "m.text", "body": plain, "format": "org.matrix.custom.html", "formatted_body": marked}


def _cell(value: Any) -> str:
    if value is None:
        return ""
    return f"{value:f}" if isinstance(value, Decimal) else clean(str(value))[:300]


def _file(call: Call, workshop: Workshop, connection: str) -> dict[str, Any]:
    try:
        data = workshop.file(str(call.parameters["file"]))
    except (KeyError, ValueError) as error:
        raise StepFailed(f"{str(call.parameters['file'])[:80]!r} is no file that is kept here. Name one, such as ${{item.file}}.") from error
    name = clean(str(call.parameters.get("name") or call.file_name or "file"))[:150]
    media = next((kind for begins, kind in PICTURES.items() if data.startswith(begins)), "application/octet-stream")
    path = f"_matrix/media/v3/upload?filename={quote(name)}"
    place = str(_read(workshop.call(_wanted(connection, path, "POST", data, {"Content-Type": media}))).get("content_uri", ""))
    kind = "m.image" if media.startswith("image/") else "m.file"
    return {"msgtype": kind, "body": name, "filename": name, "url": place, "info": {"mimetype": media, "size": len(data)}}


def _read(found: Fetched) -> dict[str, Any]:
    try:
        read = loads(found.data or b"")
    except NotJson as error:
        raise StepFailed(f"{found.url} does not answer as a chat's server does.", again=True, cause="unreachable") from error
    return read if isinstance(read, dict) else {}


def _wanted(
    connection: str,
    path: str,
    method: str = "GET",
    body: bytes | None = None,
    headers: Mapping[str, str] | None = None,
    good: tuple[int, ...] = (200,),
) -> Wanted:
    return Wanted(path, LARGEST, SECONDS, redirects=0, connection=connection, method=method, body=body, more=dict(headers or {}), good=good)
