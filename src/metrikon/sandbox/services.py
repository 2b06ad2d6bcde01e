"""The outside services of the garden, simulated: a chat, a call service that posts, a recruiting service, recordings with transcripts, a meeting calendar, a sheet, exchange rates, a search service.

Each speaks the same open protocol as a real one, has a page that shows what it holds with buttons that send one thing, and fails on request (POST /failing).
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
import secrets
import ssl
import threading
import time
import urllib.error
import urllib.request
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any

from flask import Flask, Response, jsonify, redirect, request
from werkzeug.serving import BaseWSGIServer, make_server

from metrikon.sandbox import accounts, chat, rates, records, search
from metrikon.sandbox.failing import TOLD, Failing
from metrikon.sandbox.letting_in import FORMER_KEY, KEY
from metrikon.sandbox.page import page

NAMES = ["Ada Fenwick", "Jorge Ibarra", "Linnea Brook", "Tove Holm", "Marek Sol"]
STAGES = ["applied", "phone screen", "interview", "offer"]
READY = 6.0  # seconds after which the transcript of a recording is there


@dataclass
class World:
    """What the services hold."""

    failing: Failing = field(default_factory=Failing)
    chat: chat.ChatServer = field(default_factory=chat.ChatServer)
    records: records.RecordsServer = field(default_factory=records.RecordsServer)
    accounts: accounts.Accounts = field(default_factory=accounts.Accounts)
    target: str = ""  # where the call service posts
    secret: str = ""
    posted: list[str] = field(default_factory=list)
    candidates: list[dict[str, Any]] = field(default_factory=list)
    recordings: dict[str, float] = field(default_factory=dict)  # when each was made
    meetings: list[tuple[str, str, datetime]] = field(default_factory=list)
    rows: list[dict[str, Any]] = field(default_factory=list)

    def call(self) -> list[int]:
        """A call of the visitor line: it began, it ended, its report is ready. The status of each answer, 0 where none came."""
        id_ = f"call-{secrets.token_hex(4)}"
        caller = NAMES[len(self.posted) % len(NAMES)]
        report = {
            "transcript": f"{caller}: I should like to book a guided tour for twelve.\nVisitor line: On which day?",
            "summary": "A guided tour is wanted.",
            "seconds": 84,
        }
        events: list[tuple[str, dict[str, Any]]] = [("began", {}), ("ended", {"seconds": 84}), ("report", report)]
        return [self._post({"event": event, "call": {"id": id_, "caller": caller, **more}}, f"{id_}-{event}") for event, more in events]

    def _post(self, told: dict[str, Any], id_: str) -> int:
        status = 0
        for _ in range(2 if self.failing.now("twice") else 1):
            body, at = json.dumps(told).encode(), int(time.time())
            made = hmac.new(base64.b64decode(self.secret.removeprefix("whsec_") + "=="), f"{id_}.{at}.".encode() + body, hashlib.sha256)
            headers = {
                "Content-Type": "application/json",
                "webhook-id": id_,
                "webhook-timestamp": str(at),
                "webhook-signature": f"v1,{base64.b64encode(made.digest()).decode()}",
            }
            try:
                asked = urllib.request.Request(self.target, body, headers)  # noqa: S310  (the address is typed in by whoever tries it)
                with urllib.request.urlopen(asked, timeout=20) as answer:  # noqa: S310
                    status = int(answer.status)
            except urllib.error.HTTPError as error:
                status = error.code
            except OSError:
                status = 0
            self.posted.append(f"{told['event']} of {told['call']['id']}: {status or 'no answer'}")
        return status

    def apply(self) -> dict[str, Any]:
        """Somebody applies for a post."""
        number = len(self.candidates) + 1
        name = NAMES[number % len(NAMES)]
        found = {
            "id": number,
            "name": name,
            "email": f"{name.split()[0].lower()}@mail.example",
            "stage": STAGES[0],
            "updated": datetime.now(UTC).isoformat(timespec="milliseconds"),
            "file": f"/recruiting/files/{number}",
        }
        self.candidates.append(found)
        return found


def create(world: World | None = None) -> Flask:
    """The application."""
    world = world or World()
    app = Flask("metrikon.sandbox")
    app.config["world"] = world
    app.register_blueprint(chat.blueprint(world.chat))
    app.register_blueprint(records.blueprint(world.records))
    app.register_blueprint(accounts.blueprint(world.accounts))
    app.register_blueprint(rates.blueprint())
    app.register_blueprint(search.blueprint())

    @app.before_request
    def before() -> None:
        if not _page_of(request.path):
            world.failing.before()

    @app.after_request
    def after(response: Response) -> Response:
        return response if _page_of(request.path) else world.failing.after(response)

    @app.get("/")
    def index() -> str:
        places = {
            "/chat": "A chat with rooms",
            "/calls": "A call service",
            "/recruiting": "A recruiting service",
            "/recordings": "Recordings",
            "/calendar": "A meeting calendar",
            "/sheet": "A sheet",
            "/records": "Records: contacts, tasks, pages",
            "/accounts/": f"An old accounting program ({accounts.USER}, {accounts.PASSWORD})",
            "/rates": "Exchange rates",
            "/search": "A search service",
        }
        return page(
            "Stand-ins of outside services",
            "Each has a page that shows what reached it, with buttons that send one thing.",
            [],
            {},
            TOLD,
            links=places,
        )

    @app.post("/failing")
    def failing() -> Any:
        given = request.get_json(silent=True) or request.form
        world.failing.set(str(given.get("kind", "")), float(given.get("rate", 1)), int(given.get("times", 1)))
        return redirect("/") if request.form else jsonify(kind=world.failing.kind, times=world.failing.times)

    _calls(app, world)
    _recruiting(app, world)
    _recordings(app, world)
    _calendar(app, world)
    _sheet(app, world)
    return app


def _page_of(path: str) -> bool:
    """Whether an address is one of those that people look at."""
    return path in (
        "/",
        "/failing",
        "/chat",
        "/calls",
        "/recruiting",
        "/recordings",
        "/calendar",
        "/sheet",
        "/records",
        "/records/openapi.json",
        "/rates",
        "/search",
    ) or path.endswith(("/say", "/new", "/target"))


def _calls(app: Flask, world: World) -> None:
    @app.get("/calls")
    def calls() -> str:
        buttons = {
            "/calls/target": ("Address and secret, parted by a blank", f"{world.target} {world.secret}".strip()),
            "/calls/new": ("A call comes in", None),
        }
        return page(
            "A call service", "It posts three times for each call: it began, it ended, its report is ready.", world.posted[-30:][::-1], buttons
        )

    @app.post("/calls/target")
    def target() -> Any:
        world.target, _, world.secret = request.form.get("text", "").strip().partition(" ")
        return redirect("/calls")

    @app.post("/calls/new")
    def new_call() -> Any:
        if world.target:
            world.call()
        return redirect("/calls")


def _recruiting(app: Flask, world: World) -> None:
    @app.get("/recruiting/candidates")
    def candidates() -> Any:
        if request.headers.get("X-Api-Key") not in (KEY, FORMER_KEY):
            return Response('{"error": "wrong key"}', 401)
        since, number = request.args.get("since", ""), request.args.get("page", 1, int)
        found = [each for each in world.candidates if each["updated"] >= since]
        return jsonify(candidates=found[(number - 1) * 10 : number * 10])

    @app.get("/recruiting/files/<int:number>")
    def file(number: int) -> Any:
        found = next((each for each in world.candidates if each["id"] == number), None)
        text = f"{found['name']}\n\nThree seasons in the propagation house of Hollins.\n" if found else ""
        return Response(text, content_type="text/plain; charset=utf-8") if found else Response("", 404)

    @app.get("/recruiting")
    def recruiting() -> str:
        lines = [f"{each['id']}: {each['name']}, {each['stage']}" for each in world.candidates[::-1]]
        return page(
            "A recruiting service",
            "GET /recruiting/candidates?page=1&since=… with the header X-Api-Key: sandbox-key-1.",
            lines,
            {"/recruiting/new": ("Somebody applies", None)},
        )

    @app.post("/recruiting/new")
    def new_candidate() -> Any:
        world.apply()
        return redirect("/recruiting")


def _recordings(app: Flask, world: World) -> None:
    @app.get("/recordings/<name>")
    def recording(name: str) -> Any:
        made = world.recordings.get(name)
        if made is None:
            return Response("", 404)
        ready = time.time() - made >= READY
        return jsonify(id=name, state="ready" if ready else "working", transcript=f"/recordings/{name}.vtt" if ready else None)

    @app.get("/recordings/<name>.vtt")
    def transcript(name: str) -> Any:
        made = world.recordings.get(name)
        if made is None or time.time() - made < READY:
            return Response("", 404)
        return Response("WEBVTT\n\n00:01.000 --> 00:05.000\n<v Ada>The palm house needs a new pump.\n", content_type="text/vtt")

    @app.get("/recordings")
    def recordings() -> str:
        lines = [f"{name}: {'ready' if time.time() - made >= READY else 'working'}" for name, made in world.recordings.items()]
        return page(
            "Recordings",
            f"The transcript is ready {READY:g} seconds after a recording was made: GET /recordings/NAME.",
            lines,
            {"/recordings/new": ("Make a recording", None)},
        )

    @app.post("/recordings/new")
    def new_recording() -> Any:
        world.recordings[f"rec-{len(world.recordings) + 1}"] = time.time()
        return redirect("/recordings")


def _calendar(app: Flask, world: World) -> None:
    @app.get("/calendar.ics")
    def calendar_file() -> Any:
        events = "".join(
            f"BEGIN:VEVENT\r\nUID:{uid}\r\nSUMMARY:{title}\r\nDTSTART:{start:%Y%m%dT%H%M%SZ}\r\nDURATION:PT45M\r\nEND:VEVENT\r\n"
            for uid, title, start in world.meetings
        )
        return Response(
            f"BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//sandbox//EN\r\n{events}END:VCALENDAR\r\n", content_type="text/calendar; charset=utf-8"
        )

    @app.get("/calendar")
    def calendar_page() -> str:
        lines = [f"{title}, {start:%Y-%m-%d %H:%M} UTC" for _, title, start in world.meetings[::-1]]
        return page("A meeting calendar", "GET /calendar.ics", lines, {"/calendar/new": ("A meeting has just ended; its title", "Trustees")})

    @app.post("/calendar/new")
    def new_meeting() -> Any:
        title = request.form.get("text", "Trustees").replace("\r", " ").replace("\n", " ")[:100]
        world.meetings.append((f"{secrets.token_hex(6)}@sandbox", title, datetime.now(UTC) - timedelta(minutes=46)))
        return redirect("/calendar")


def _sheet(app: Flask, world: World) -> None:
    @app.get("/sheet/rows")
    def sheet_rows() -> Any:
        return jsonify(rows=world.rows)

    @app.get("/sheet")
    def sheet_page() -> str:
        return page(
            "A sheet",
            "GET /sheet/rows",
            [str(each) for each in world.rows[::-1]],
            {"/sheet/new": ("A row with this address", "https://seeds.example")},
        )

    @app.post("/sheet/new")
    def new_row() -> Any:
        world.rows.append({"id": len(world.rows) + 1, "address": request.form.get("text", "")[:500]})
        return redirect("/sheet")


class Services:
    """The services on an address of this machine, in a thread of their own."""

    def __init__(self, host: str = "127.0.0.1", port: int = 0, tls: ssl.SSLContext | None = None) -> None:
        self.world = World()
        self._server: BaseWSGIServer = make_server(host, port, create(self.world), threaded=True, ssl_context=tls)
        self.url = f"{'https' if tls else 'http'}://{host}:{self._server.server_port}"

    def start(self) -> Services:
        """Begin to answer."""
        threading.Thread(target=self._server.serve_forever, daemon=True).start()
        return self

    def run(self) -> None:
        """Answer until interrupted."""
        self._server.serve_forever()

    def stop(self) -> None:
        """Answer no more."""
        self._server.shutdown()
        self._server.server_close()

    def again(self, port: int) -> None:
        """Answer again, with all that it holds."""
        self._server = make_server("127.0.0.1", port, create(self.world), threaded=True)
        self.start()
