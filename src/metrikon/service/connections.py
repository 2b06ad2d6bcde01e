"""Connections: outside services with a way of signing in. Secrets go in and never come out."""

from __future__ import annotations

from typing import Any, Literal

import msgspec
from flask import Response, g, request
from flask_openapi3 import OpenAPI, Tag
from markupsafe import escape
from pydantic import Field

from metrikon.app.assemble import App
from metrikon.connections.fetching import FetchFailed
from metrikon.connections.sealing import CannotOpen
from metrikon.core.flows.connecting import Way
from metrikon.engine.connecting import BadConnection
from metrikon.engine.holding import holds
from metrikon.service.asked import NamePath
from metrikon.service.auth import Guard
from metrikon.service.description import Room
from metrikon.service.problems import Problem
from metrikon.service.reply import reply
from metrikon.service.roles import may
from metrikon.service.sent_views import Sent, View
from metrikon.store.connections import calls_of

CONSENT = "/consent"


class WayView(View):
    """How one signs in: none, bearer, basic (`user`), header or query (`name`), certificate, client (OAuth 2 client credentials: `user`, `token_url`, `scope`), consent (with a person: `consent_url`, too)."""

    kind: Literal["none", "bearer", "basic", "header", "query", "signed", "certificate", "client", "consent"] = "none"
    user: str = Field("", max_length=200)
    name: str = Field("", max_length=100)
    token_url: str = Field("", max_length=1000)
    scope: str = Field("", max_length=500)
    consent_url: str = Field("", max_length=1000)


class ConnectionBody(Sent):
    """A connection. Without a secret the one before stays, as long as it goes to the same place."""

    address: str = Field(..., max_length=1000)
    way: WayView = WayView()
    probe: str = Field("", max_length=1000, description="What is asked for when it is tested, after its address; something that changes nothing.")
    secret: str | None = Field(None, max_length=10_000)


class ConnectionView(View):
    """A connection without its secret. `told`: what came of the last test or call; `failing_since`: from when on calls fail."""

    name: str
    address: str
    way: WayView
    probe: str
    secret: bool
    put_at: int
    put_by: str
    tested_at: int | None
    told: str
    failing_since: int | None
    flows: list[str] = Field([], description="The flows that name it.")


class ConnectionList(View):
    items: list[ConnectionView]


class ConsentView(View):
    """Where a person consents; what comes of it is taken at /consent."""

    url: str


class OutsideCall(View):
    """A call that was made by a connection, without what was sent. `status`: 0 where nothing was answered; `took`: milliseconds."""

    at: int
    flow: str
    method: str
    address: str
    status: int
    size: int
    took: int
    error: str


class OutsideCalls(View):
    items: list[OutsideCall]


class HeldName(View):
    """Something that the place behind a connection holds: a folder, table, kind of records, operation or file."""

    name: str
    kind: str
    about: str


class HeldNames(View):
    items: list[HeldName]


class KeyView(View):
    """How many secrets were sealed with a new key."""

    sealed: int


def blueprint(app: App) -> Room:
    """The routes."""
    api = Room("connections", __name__, abp_tags=[Tag(name="connections")])

    @api.get("/api/connections", responses={200: ConnectionList}, operation_id="listConnections")
    def list_connections() -> Response:
        """Every connection, without secrets."""
        return reply(ConnectionList(items=[_view(app, each) for each in app.connections.all()]))

    @api.get("/api/connections/<string:name>", responses={200: ConnectionView}, operation_id="getConnection")
    def get_connection(path: NamePath) -> Response:
        """One connection, without its secret."""
        return reply(_view(app, app.connections.one(path.name)))

    @api.put("/api/connections/<string:name>", responses={200: ConnectionView}, operation_id="putConnection")
    def put_connection(path: NamePath, body: ConnectionBody) -> Response:
        """Keep a connection, and test it: `told` says what came of that. It is kept though the test fails."""
        way = Way(**body.way.model_dump())
        try:
            found = app.connections.put(path.name, body.address.strip(), way, body.secret, str(g.person), body.probe.strip())
        except BadConnection as error:
            raise Problem(422, "bad-connection", str(error)) from error
        return reply(_view(app, found))

    @api.post("/api/connections/<string:name>/test", responses={200: ConnectionView}, operation_id="testConnection")
    def test_connection(path: NamePath) -> Response:
        """Make a real call that changes nothing, and say what it did and as whom."""
        return reply(_view(app, app.connections.test(path.name)))

    @api.post("/api/connections/<string:name>/consent", responses={201: ConsentView}, operation_id="beginConsent")
    def begin_consent(path: NamePath) -> Response:
        """Begin a person's consent to a connection: the address at which it is given."""
        return reply(ConsentView(url=app.connections.consent(path.name, f"{app.address}{CONSENT}", str(g.person))), 201)

    @api.get("/api/connections/<string:name>/calls", responses={200: OutsideCalls}, operation_id="listOutsideCalls")
    def list_calls(path: NamePath) -> Response:
        """The latest calls that were made by a connection, the newest first, without what was sent."""
        app.connections.one(path.name)
        app.outside.called.settle()
        with app.database.reading() as connection:
            rows = calls_of(connection, path.name, 100)
        return reply(OutsideCalls(items=[OutsideCall(**{name: row[name] for name in OutsideCall.model_fields}) for row in rows]))

    @api.get("/api/connections/<string:name>/holds", responses={200: HeldNames}, operation_id="listHeld")
    def list_held(path: NamePath) -> Response:
        """What a connection's place holds that a flow may name: folders of a mailbox, tables, records and operations of a service, files."""
        try:
            found = holds(app.outside, app.describing, path.name)
        except FetchFailed as error:
            raise Problem(422, "not-reached", str(error)) from error
        return reply(HeldNames(items=[HeldName(name=each.name, kind=each.kind, about=each.about) for each in found]))

    @api.delete("/api/connections/<string:name>", responses={204: None}, operation_id="removeConnection")
    def remove_connection(path: NamePath) -> Response:
        """Keep a connection no longer; not while flows name it."""
        app.connections.remove(path.name)
        return Response(status=204)

    @api.post("/api/connections-key", responses={200: KeyView}, operation_id="newKey")
    def new_key() -> Response:
        """Seal every secret with a new key."""
        try:
            return reply(KeyView(sealed=app.connections.new_key()))
        except CannotOpen as error:
            raise Problem(409, "cannot-open", str(error)) from error

    return api


def install(flask: OpenAPI, app: App, guard: Guard) -> None:
    """Where a person comes back to after a consent: it is theirs, by the session in which they began it."""

    def consented() -> Response:
        g.person = None
        refused, code = request.args.get("error_description") or request.args.get("error"), request.args.get("code", "")
        session = guard.current()
        if session is None and "here" not in request.args:
            return _through_here()
        try:
            if refused or not code:
                raise FetchFailed(f"Nothing was consented to{f': {refused[:200]}' if refused else ''}.")
            if session is None:
                raise FetchFailed("Nobody is signed in here. Sign in, then begin the consent once more in Setup.")
            builds = may(session.role, "connections.begin_consent", looks_only=False)
            name = app.connections.consented(request.args.get("state", ""), code, session.person, builds=builds)
        except FetchFailed as error:
            return _page("It did not work", str(error), 400)
        told = app.connections.one(name)
        return _page(f"The connection {name} is signed in", f"{told['told']} You may close this page, or go back to Setup.", 200)

    flask.add_url_rule(CONSENT, view_func=consented, endpoint="consented")


def _through_here() -> Response:
    """Cookies of sessions are not sent along with what another site leads to: the same address once more, from here."""
    on = escape(f"{CONSENT}?{request.query_string.decode('latin-1')}&here=1")
    text = f"<!doctype html><meta charset=utf-8><meta http-equiv=refresh content='0;url={on}'><title>Consent</title><p><a href='{on}'>Go on</a></p>"
    response = Response(text, 200, content_type="text/html; charset=utf-8")
    response.headers["Referrer-Policy"], response.headers["Cache-Control"] = "no-referrer", "no-store"
    return response


def _page(title: str, told: str, status: int) -> Response:
    text = f"<!doctype html><meta charset=utf-8><title>{escape(title)}</title><h1>{escape(title)}</h1><p>{escape(told)}</p><p><a href='/setup'>Setup</a></p>"
    response = Response(text, status, content_type="text/html; charset=utf-8")
    response.headers["Referrer-Policy"], response.headers["Cache-Control"] = "no-referrer", "no-store"
    return response


def _view(app: App, row: dict[str, Any]) -> ConnectionView:
    return ConnectionView(**{**row, "way": msgspec.to_builtins(row["way"])}, flows=app.connections.users(row["name"]))
