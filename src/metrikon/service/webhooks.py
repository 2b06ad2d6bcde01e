"""What other services post to the addresses of intakes: stored before it is answered, and answered the same when it is sent again."""

from __future__ import annotations

import secrets
import threading
import time
from typing import Any

from flask import Response, request
from flask_openapi3 import OpenAPI
from werkzeug.exceptions import HTTPException

from metrikon.app.assemble import App
from metrikon.connections.sealing import CannotOpen
from metrikon.core.feel import fill
from metrikon.core.values.exact import as_kept, dumps
from metrikon.engine.addresses import Sent
from metrikon.engine.looking import state_of
from metrikon.engine.refusing import NotThere
from metrikon.intakes.webhook import Posted, Webhook, identity_of, taken_from, unproved
from metrikon.ports.intake import DEPTH_HEADER, IntakeFailed, Thing, depth_told
from metrikon.service.problems import Problem
from metrikon.store import runs
from metrikon.store.items import Arrived
from metrikon.store.runs import SETTLED

PATH = "/in/"
OFF = "The flow was switched off; what came is kept to look at."
WRONG = "What was sent was not believed:"
AGAIN = 60  # seconds after which a sender may try again while the flow is off
FORMS = ("application/x-www-form-urlencoded", "multipart/form-data")


def install(flask: OpenAPI, app: App) -> None:
    """The address that other services post to."""
    waiting = threading.Semaphore(max(1, app.settings.threads // 2))  # who waits for the end of a run holds a thread

    def post(address: str) -> Response:
        try:
            found = app.addresses.find(address)
        except NotThere as error:
            raise Problem(404, "not-there", str(error)) from error
        except CannotOpen as error:
            raise Problem(503, "cannot-open", str(error)) from error
        if not isinstance(found.said.form, Webhook):
            raise Problem(404, "not-there", "Nothing is posted to this address.")
        return _posted(app, found, waiting)

    flask.add_url_rule(f"{PATH}<string:address>", view_func=post, endpoint="webhook", methods=["POST", "PUT"])


def _posted(app: App, found: Sent, waiting: threading.Semaphore) -> Response:
    said: Webhook = found.said.form
    posted = _as_posted()
    wrong = unproved(said, found.secret, posted, time.time())
    if wrong:
        app.taking.came(found.flow.name, found.said.name, f"{WRONG} {wrong}", failed=True)
        raise Problem(401, "not-believed", wrong)
    thing, pieces = taken_from(said, posted, app.clock.now(), "each" if said.opened else "")
    known = identity_of(said, posted, thing)
    depth = depth_told(posted.headers.get(DEPTH_HEADER.lower(), ""))
    thing = Thing(known or f"sent {secrets.token_hex(12)}", thing.name, thing.at, thing.size, thing.data, depth=depth)
    app.taking.came(found.flow.name, found.said.name, "", failed=False)
    if not found.running:
        app.taking.let_go(found.flow, found.said, [(thing, OFF)], posted.body).result()
        raise Problem(
            503,
            "switched-off",
            "The flow behind this address is switched off and takes nothing in. Send it again later.",
            {"Retry-After": str(AGAIN)},
        )
    why = app.taking.why_not(found.flow, found.said, thing)
    if why and thing.size > app.settings.max_bytes:
        app.taking.let_go(found.flow, found.said, [(thing, why)]).result()
        raise Problem(413, "too-large", why)
    if why:
        app.taking.let_go(found.flow, found.said, [(thing, why)], posted.body).result()
        return _answer({"taken": False, "why": why}, 202)
    try:
        app.taking.pace.look(found.flow.name, found.said.name)
    except IntakeFailed as error:
        app.taking.came(found.flow.name, found.said.name, str(error), failed=True)
        raise Problem(429, "too-many", str(error), {"Retry-After": str(int(error.wait or AGAIN))}) from error
    arrived = [each.result() for each in app.taking.sent(found.flow, found.said, thing, pieces)]
    if not all(each.known for each in arrived):
        app.taking.pace.took(found.flow.name, found.said.name)
    if said.within and len(arrived) == 1 and waiting.acquire(blocking=False):
        try:
            told = _ended(app, found, arrived[0], said)
        finally:
            waiting.release()
        if told is not None:
            return _answer(told, 200)
    told_items = [{"item": each.item_id, "run": each.run_id, "known": each.known, "held": each.held} for each in arrived]
    return _answer({"taken": True, **(told_items[0] if len(told_items) == 1 else {"items": told_items})}, 202)


def _as_posted() -> Posted:
    """The request; its body as it came is what a signature is made of."""
    headers = {name.lower(): value for name, value in request.headers.items()}
    try:
        body = request.get_data(cache=True, parse_form_data=False)
        if request.mimetype not in FORMS:
            return Posted(headers, body)
        form: dict[str, Any] = {}
        for name in request.form:
            values = request.form.getlist(name)
            form[name] = values[0] if len(values) == 1 else values
        files = [(each.filename or "unnamed", each.read()) for name in request.files for each in request.files.getlist(name)]
    except HTTPException as error:
        raise Problem(error.code or 400, "unreadable", error.description or "The request cannot be read.") from error
    return Posted(headers, body, form, files)


def _ended(app: App, found: Sent, arrived: Arrived, said: Webhook) -> dict[str, Any] | None:
    """What the sender is told of a run that has ended in time; None where it has not."""
    until = time.monotonic() + said.within
    while True:
        with app.database.reading() as connection:
            run = runs.get(connection, arrived.run_id)
        if run is not None and run["state"] in SETTLED:
            break
        if time.monotonic() >= until or app.engine.stopping:
            return None
        time.sleep(0.05)
    told = {"taken": True, "item": arrived.item_id, "run": arrived.run_id, "known": arrived.known, "state": run["state"], "reason": run["reason"]}
    if said.answer is None:
        return told
    frame = state_of(app.database, app.catalog, app.files, arrived.run_id, found.flow.name, int(run["flow_version"])).frames.get("")
    return {**told, "answer": as_kept(fill(said.answer, frame.scope if frame else {}))}


def _answer(told: dict[str, Any], status: int) -> Response:
    return Response(dumps(told), status, content_type="application/json")
