"""Services that hold records, described as OpenAPI has it: contacts that are found only after a while, tasks that are taken once by a header, pages whose paragraphs
go in at most a hundred at a time, files in two steps, rows of an online sheet.
"""

from __future__ import annotations

import math
import secrets
import threading
import time
from dataclasses import dataclass, field
from typing import Any

from flask import Blueprint, Response, abort, jsonify, redirect, request

from metrikon.sandbox.letting_in import TOKEN as TOKEN
from metrikon.sandbox.letting_in import lets_in
from metrikon.sandbox.page import page

MOST = 100
FOUND_AFTER = 0.0  # seconds after which a new contact is found


@dataclass
class RecordsServer:
    """What the services hold. `found_after`: seconds until a contact that was made is found; `takes`: calls that are answered in a `window` of seconds, 0: any number."""

    found_after: float = FOUND_AFTER
    takes: int = 0
    window: float = 10.0
    counted: int = 0  # calls in the window that ends at `until`
    until: float = 0.0
    refused: int = 0  # calls that were too many
    contacts: dict[str, dict[str, Any]] = field(default_factory=dict)
    tasks: dict[str, dict[str, Any]] = field(default_factory=dict)
    once: dict[str, str] = field(default_factory=dict)
    paragraphs: dict[str, list[dict[str, Any]]] = field(default_factory=dict)
    rows: dict[str, dict[str, Any]] = field(default_factory=dict)
    files: dict[str, bytes] = field(default_factory=dict)
    calls: list[str] = field(default_factory=list)
    lock: threading.Lock = field(default_factory=threading.Lock)

    def left(self) -> int:
        """Count a call; how many are left after it in this window, less than none where it was too many."""
        with self.lock:
            now = time.time()
            if now >= self.until:
                self.counted, self.until = 0, now + self.window
            self.counted += 1
            self.refused += self.counted > self.takes
            return self.takes - self.counted


def blueprint(server: RecordsServer) -> Blueprint:
    """Its API, its description and its page."""
    api = Blueprint("records", __name__)

    @api.before_request
    def signed_in() -> None:
        if request.path in ("/records", "/records/openapi.json", "/records/takes"):
            return
        if not lets_in(request.headers.get("Authorization")):
            abort(Response('{"error": "the token is not valid"}', 401, content_type="application/json"))
        if server.takes and server.left() < 0:
            abort(Response('{"error": "too many calls"}', 429, content_type="application/json"))
        server.calls.append(f"{request.method} {request.path}")

    @api.after_request
    def told(answer: Response) -> Response:
        if server.takes:
            answer.headers["X-RateLimit-Limit"] = str(server.takes)
            answer.headers["X-RateLimit-Remaining"] = str(max(0, server.takes - server.counted))
            answer.headers["X-RateLimit-Reset"] = str(math.ceil(server.until))
        return answer

    @api.get("/records/openapi.json")
    def described() -> Any:
        return jsonify(DESCRIPTION)

    @api.post("/records/contacts")
    def make_contact() -> Any:
        said = request.get_json()
        if not isinstance(said.get("email"), str) or "@" not in said["email"]:
            abort(Response('{"error": "email is missing or none"}', 422, content_type="application/json"))
        with server.lock:
            made = {"id": secrets.token_hex(4), **said, "made_at": time.time()}
            server.contacts[made["id"]] = made
        return _shown(made), 201

    @api.get("/records/contacts")
    def list_contacts() -> Any:
        now, start = time.time(), request.args.get("cursor", 0, int)
        asked = {name: request.args[name] for name in ("email", "phone", "external_id") if name in request.args}
        with server.lock:
            found = [each for each in server.contacts.values() if now - each["made_at"] >= server.found_after]
        found = [each for each in found if all(str(each.get(name, "")).casefold() == value.casefold() for name, value in asked.items())]
        part = found[start : start + 20]
        more = str(start + 20) if len(found) > start + 20 else None
        return jsonify(data=[_plain(each) for each in part], next=more)

    @api.patch("/records/contacts/<id_>")
    def set_contact(id_: str) -> Any:
        with server.lock:
            found = server.contacts.get(id_)
            if found is None:
                abort(404)
            found.update(request.get_json())
        return _shown(found)

    @api.post("/records/tasks")
    def make_task() -> Any:
        key = request.headers.get("Idempotency-Key", "")
        with server.lock:
            if key and key in server.once:
                return _shown(server.tasks[server.once[key]]), 201
            made = {"id": secrets.token_hex(4), **request.get_json()}
            server.tasks[made["id"]] = made
            if key:
                server.once[key] = made["id"]
        return _shown(made), 201

    @api.patch("/records/pages/<id_>/paragraphs")
    def append(id_: str) -> Any:
        given = request.get_json().get("children", [])
        if len(given) > MOST:
            abort(Response(f'{{"error": "at most {MOST} children a call"}}', 400, content_type="application/json"))
        with server.lock:
            server.paragraphs.setdefault(id_, []).extend(given)
        return jsonify(added=len(given))

    @api.get("/records/pages/<id_>/paragraphs")
    def list_paragraphs(id_: str) -> Any:
        start = request.args.get("cursor", 0, int)
        with server.lock:
            found = list(server.paragraphs.get(id_, ()))
        more = {"next": str(start + 150)} if len(found) > start + 150 else {}
        return jsonify(children=found[start : start + 150], **more)

    @api.get("/records/rows")
    def list_rows() -> Any:
        start, asked = request.args.get("page", 0, int), request.args.get("row_key")
        with server.lock:
            found = [each for each in server.rows.values() if asked is None or each.get("row_key") == asked]
        more = {"next": start + 200} if len(found) > start + 200 else {}
        return jsonify(rows=found[start : start + 200], **more)

    @api.post("/records/rows")
    def add_row() -> Any:
        with server.lock:
            made = {"number": str(len(server.rows) + 2), **request.get_json()}
            server.rows[made["number"]] = made
        return jsonify(made), 201

    @api.patch("/records/rows/<number>")
    def set_row(number: str) -> Any:
        with server.lock:
            if number not in server.rows:
                abort(404)
            server.rows[number].update(request.get_json())
            return jsonify(server.rows[number])

    @api.post("/records/files")
    def upload() -> Any:
        data = request.files["file"].read() if "file" in request.files else request.get_data()
        id_ = secrets.token_hex(6)
        server.files[id_] = data
        return jsonify(file_id=id_), 201

    @api.post("/records/contacts/<id_>/files")
    def attach(id_: str) -> Any:
        with server.lock:
            if id_ not in server.contacts:
                abort(404)
            server.contacts[id_].setdefault("files", []).append(request.get_json()["file_id"])
        return jsonify(attached=True)

    @api.delete("/records/contacts/<id_>/files/<file_id>")
    def detach(id_: str, file_id: str) -> Any:
        with server.lock:
            if file_id not in server.contacts.get(id_, {}).get("files", ()):
                abort(404)
            server.contacts[id_]["files"].remove(file_id)
        return "", 204

    @api.get("/records")
    def look() -> Any:
        lines = [f"contact {each['id']}: {each.get('name', '')} {each['email']}" for each in server.contacts.values()]
        lines += [f"task {each['id']}: {each.get('title', '')}" for each in server.tasks.values()]
        lines += [f"row {each['number']}: {each.get('Vendor', '')} {each.get('Amount', '')}" for each in server.rows.values()]
        lines += [f"page {name}: {len(each)} paragraphs" for name, each in server.paragraphs.items()]
        buttons = {"/records/takes": (f"Calls that it takes in {server.window:g} seconds; 0: any number", str(server.takes))}
        return page("Records: contacts, tasks, pages", f"Token: {TOKEN}. Description: /records/openapi.json.", lines, buttons)

    @api.post("/records/takes")
    def put_takes() -> Any:
        given = request.form.get("text", "")
        server.takes = min(int(given), 1_000_000) if given.isdecimal() else 0
        return redirect("/records")

    return api


def _plain(record: dict[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in record.items() if name != "made_at"}


def _shown(record: dict[str, Any]) -> Any:
    return jsonify(_plain(record))


def _operation(
    id_: str, about: str, body: str = "", answer: str = "", parameters: tuple[tuple[str, str], ...] = (), status: str = "200"
) -> dict[str, Any]:
    reference = {"$ref": f"#/components/schemas/{answer}"} if answer else {"type": "object"}
    made: dict[str, Any] = {
        "operationId": id_,
        "summary": about,
        "parameters": [{"name": name, "in": place, "required": place == "path", "schema": {"type": "string"}} for name, place in parameters],
        "responses": {status: {"description": "done", "content": {"application/json": {"schema": reference}}}},
    }
    if body:
        made["requestBody"] = {"required": True, "content": {"application/json": {"schema": {"$ref": f"#/components/schemas/{body}"}}}}
    return made


_TEXT = {"type": "string"}
DESCRIPTION: dict[str, Any] = {
    "openapi": "3.1.0",
    "info": {"title": "Records of the garden", "version": "1"},
    "paths": {
        "/contacts": {
            "get": _operation(
                "listContacts",
                "Contacts, found by mail, telephone or a key of one's own",
                "",
                "ContactList",
                tuple((each, "query") for each in ("email", "phone", "external_id", "cursor")),
            ),
            "post": _operation("makeContact", "Make a contact", "Contact", "Contact", status="201"),
        },
        "/contacts/{id}": {"patch": _operation("setContact", "Set fields of a contact", "ContactChange", "Contact", (("id", "path"),))},
        "/contacts/{id}/files": {"post": _operation("attachFile", "Give a contact a file that was uploaded", "FileOfContact", "", (("id", "path"),))},
        "/contacts/{id}/files/{file_id}": {
            "delete": _operation("detachFile", "Take a file from a contact", "", "", (("id", "path"), ("file_id", "path")), status="204")
        },
        "/tasks": {"post": _operation("makeTask", "Make a task, once for a key", "Task", "Task", status="201")},
        "/pages/{page}/paragraphs": {
            "patch": _operation("appendParagraphs", "Append paragraphs to a page", "Paragraphs", "", (("page", "path"),)),
            "get": _operation("listParagraphs", "The paragraphs of a page, in order", "", "ParagraphList", (("page", "path"), ("cursor", "query"))),
        },
        "/rows": {
            "get": _operation("listRows", "Rows of the sheet", "", "Rows", (("row_key", "query"), ("page", "query"))),
            "post": _operation("addRow", "Add a row to the sheet", "SheetRow", "SheetRow", status="201"),
        },
        "/rows/{number}": {"patch": _operation("setRow", "Set cells of a row", "SheetRow", "SheetRow", (("number", "path"),))},
        "/files": {"post": {**_operation("uploadFile", "Upload a file", "", "Uploaded", status="201")}},
    },
    "components": {
        "schemas": {
            "Contact": {
                "type": "object",
                "required": ["email"],
                "properties": {
                    "id": {**_TEXT, "readOnly": True},
                    "email": {**_TEXT, "format": "email"},
                    "name": _TEXT,
                    "phone": {**_TEXT, "description": "In the form of E.164"},
                    "external_id": _TEXT,
                    "visits": {"type": "integer"},
                    "member": {"type": "boolean"},
                    "address": {"type": "object", "properties": {"town": _TEXT, "street": _TEXT}},
                },
            },
            "ContactChange": {"allOf": [{"$ref": "#/components/schemas/Contact"}, {"type": "object"}]},
            "ContactList": {
                "type": "object",
                "properties": {"data": {"type": "array", "items": {"$ref": "#/components/schemas/Contact"}}, "next": _TEXT},
            },
            "Task": {
                "type": "object",
                "required": ["title"],
                "properties": {
                    "id": {**_TEXT, "readOnly": True},
                    "title": _TEXT,
                    "due": {**_TEXT, "format": "date"},
                    "priority": {**_TEXT, "enum": ["low", "normal", "high"]},
                },
            },
            "Paragraphs": {
                "type": "object",
                "required": ["children"],
                "properties": {
                    "children": {"type": "array", "maxItems": MOST, "items": {"type": "object", "properties": {"text": _TEXT, "speaker": _TEXT}}}
                },
            },
            "ParagraphList": {
                "type": "object",
                "properties": {
                    "children": {"type": "array", "items": {"type": "object", "properties": {"text": _TEXT, "speaker": _TEXT}}},
                    "next": _TEXT,
                },
            },
            "SheetRow": {
                "type": "object",
                "properties": {
                    "number": {**_TEXT, "readOnly": True},
                    "row_key": _TEXT,
                    "Vendor": _TEXT,
                    "Line": {"type": "integer"},
                    "Amount": {"type": "number"},
                    "Date": {**_TEXT, "format": "date"},
                    "Due": {**_TEXT, "format": "date"},
                    "Note": _TEXT,
                    "Paid": {"type": "boolean"},
                },
            },
            "Rows": {
                "type": "object",
                "properties": {"rows": {"type": "array", "items": {"$ref": "#/components/schemas/SheetRow"}}, "next": {"type": "integer"}},
            },
            "FileOfContact": {"type": "object", "required": ["file_id"], "properties": {"file_id": _TEXT}},
            "Uploaded": {"type": "object", "properties": {"file_id": _TEXT}},
        }
    },
}
