"""The WSGI application: API, sign-in, console."""

from __future__ import annotations

import tempfile
from contextlib import closing
from functools import cache
from pathlib import Path
from typing import Any

from flask import Response, jsonify, request, send_from_directory
from flask.json.provider import DefaultJSONProvider
from flask_openapi3 import Info, OpenAPI, Tag
from werkzeug.utils import safe_join

from metrikon import __version__
from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.core.values.exact import NotJson, loads
from metrikon.service import (
    again,
    answering,
    carrying,
    connections,
    corrections,
    decisions,
    described,
    documents,
    flows,
    forms,
    intakes,
    items,
    judgements,
    keeping,
    lists,
    mapping,
    models,
    people,
    places,
    questions,
    record_types,
    records,
    samples,
    status,
    today,
    tokens,
    trials,
    ways,
    webhooks,
)
from metrikon.service.asked import SignIn
from metrikon.service.auth import COOKIE, Guard
from metrikon.service.description import Described, Room, wanted
from metrikon.service.problems import Problem, install, invalid
from metrikon.service.reply import reply
from metrikon.service.views import SessionView


class _ExactJson(DefaultJSONProvider):
    """Request bodies keep every digit of their numbers."""

    def loads(self, s: str | bytes, **kwargs: Any) -> Any:
        try:
            return loads(s)
        except NotJson as error:
            raise ValueError(str(error)) from error


LONGEST_PATH = 200  # characters of the name of a file of the console
CONSOLE = Path(__file__).parent / "console_files"
PLACES = ("", "index.html", "today", "desk", "arrivals", "records", "flows", "judged", "questions", "setup")  # of the console, as its routes begin
_POLICY = (
    "default-src 'self'; img-src 'self' data: blob:; style-src 'self' 'unsafe-inline'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'"
)
_NO_CONSOLE = "<!doctype html><title>Metrikon</title><p>The console is not built. Run <code>make setup</code>; the API works without it."


def create(app: App) -> OpenAPI:
    """The application for an app."""
    schemes = {
        "token": {"type": "http", "scheme": "bearer"},
        "session": {"type": "apiKey", "in": "cookie", "name": COOKIE},
    }
    flask = Described(
        "metrikon.service",
        info=Info(title="Metrikon", version=__version__, description="Documents in, checked rows out."),
        security_schemes=schemes,
        validation_error_callback=invalid,
        static_folder=None,
    )
    flask.json = _ExactJson(flask)
    flask.config["MAX_CONTENT_LENGTH"] = app.settings.max_bytes + 100_000
    flask.config["MAX_FORM_MEMORY_SIZE"] = app.settings.max_bytes + 100_000
    guard = Guard(app)
    guard.install(flask)
    install(flask, lambda: app.engine.stopping)
    flask.register_api(_session_routes(app, guard))
    for room in (
        items,
        again,
        corrections,
        records,
        questions,
        answering,
        models,
        flows,
        samples,
        carrying,
        connections,
        described,
        mapping,
        intakes,
        record_types,
        decisions,
        lists,
        trials,
        documents,
        today,
        people,
        tokens,
        places,
        judgements,
        keeping,
        status,
        ways,
    ):
        flask.register_api(room.blueprint(app))
    flask.after_request(_headers)
    answering.install(flask, app)
    webhooks.install(flask, app)
    connections.install(flask, app, guard)
    forms.install(flask, app, guard)
    flask.add_url_rule("/api/openapi.json", view_func=lambda: jsonify(description()), endpoint="description")
    flask.add_url_rule("/", view_func=_console, endpoint="console")
    flask.add_url_rule("/<path:path>", view_func=_console, endpoint="console_path")
    return flask


@cache
def description() -> dict[str, Any]:
    """The description of the API (OpenAPI 3.1), made from the types that check its requests when it is first asked for."""
    with tempfile.TemporaryDirectory() as folder, closing(App(Settings(home=Path(folder)))) as app, wanted():
        found: dict[str, Any] = create(app).api_doc
    return found


def _session_routes(app: App, guard: Guard) -> Room:
    api = Room("session", __name__, abp_tags=[Tag(name="sign-in")])

    @api.post("/api/session", responses={200: SessionView}, operation_id="signIn")
    def sign_in(body: SignIn) -> Response:
        """Sign in; the session comes as a cookie that scripts cannot read."""
        session, secret = guard.sign_in(body.name, body.password)
        response = reply(SessionView(person=session.person, csrf=session.csrf, role=session.role))
        age = app.settings.session_hours * 3600
        response.set_cookie(COOKIE, secret, max_age=age, httponly=True, samesite="Strict", secure=request.is_secure, path="/")
        return response

    @api.get("/api/session", responses={200: SessionView}, operation_id="getSession")
    def get_session() -> Response:
        """Who is signed in."""
        session = guard.current()
        if session is None:
            raise Problem(401, "not-signed-in", "Nobody is signed in.")
        return reply(SessionView(person=session.person, csrf=session.csrf, role=session.role))

    @api.delete("/api/session", responses={204: None}, operation_id="signOut")
    def sign_out() -> Response:
        """Sign out."""
        guard.sign_out()
        response = Response(status=204)
        response.delete_cookie(COOKIE, path="/")
        return response

    return api


def _headers(response: Response) -> Response:
    response.headers.setdefault("Content-Security-Policy", _POLICY)
    response.headers.setdefault("X-Content-Type-Options", "nosniff")
    response.headers.setdefault("Referrer-Policy", "same-origin")
    if request.path.startswith("/api/"):
        response.headers.setdefault("Cache-Control", "no-store")
    return response


def _console(path: str = "index.html") -> Response:
    """Files of the console; the addresses of its places get its page, which finds its own way. Any other gets it with 404, and it says that nothing is there."""
    if path.startswith("api/"):
        raise Problem(404, "not-there", f"There is nothing at /{path}.")
    if not (CONSOLE / "index.html").is_file():
        return Response(_NO_CONSOLE, content_type="text/html; charset=utf-8")
    place = safe_join(str(CONSOLE), path) if len(path) <= LONGEST_PATH else None
    found = place is not None and Path(place).is_file()
    response = send_from_directory(CONSOLE, path if found else "index.html")
    if not found and path.split("/")[0] not in PLACES:
        response.status_code = 404
    lasting = found and path.startswith("assets/")
    response.headers["Cache-Control"] = "public, max-age=31536000, immutable" if lasting else "no-cache"
    return response
