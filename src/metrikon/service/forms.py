"""Forms: the page that visitors fill in, and what they send. Sent twice it is one item; what is wrong is said beside its field."""

from __future__ import annotations

import secrets
import threading
import time
from collections import OrderedDict, deque
from pathlib import Path
from typing import Any

from flask import Response, g, render_template_string, request, send_from_directory
from flask_openapi3 import OpenAPI
from werkzeug.exceptions import RequestEntityTooLarge

from metrikon.app.assemble import App
from metrikon.connections.sealing import CannotOpen
from metrikon.core.records.types import BadRecordType
from metrikon.engine.addresses import Sent
from metrikon.engine.refusing import NotThere
from metrikon.intakes.form import FormField, FormPage, fields_of, filled, thing_of
from metrikon.ports.machine import NoRoom
from metrikon.service.auth import Guard
from metrikon.store.database import StoreFailed
from metrikon.store.items import OtherContent

PATH = "/form/"
_PAGES = Path(__file__).parent / "pages"
_PAGE = (_PAGES / "form.html").read_text("utf-8")
_POLICY = (
    "default-src 'self'; media-src blob:; style-src 'unsafe-inline'; img-src 'self'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'"
)
HIDDEN = "It filled in a field that no visitor sees."
OF_ADDRESS, OF_FORM, MINUTE, KEPT = 20, 600, 60.0, 10_000  # sent a minute by one address, and to one form; addresses that are remembered


class Floods:
    """How much comes of an address, and to a form, in the last minute."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._recent: OrderedDict[str, deque[float]] = OrderedDict()

    def too_many(self, key: str, most: int, now: float) -> bool:
        """Count one more; whether that is too many."""
        with self._lock:
            recent = self._recent.setdefault(key, deque())
            self._recent.move_to_end(key)
            while recent and recent[0] < now - MINUTE:
                recent.popleft()
            if len(recent) >= most:
                return True
            recent.append(now)
            while len(self._recent) > KEPT:
                self._recent.popitem(last=False)
            return False


def install(flask: OpenAPI, app: App, guard: Guard) -> None:
    """The pages of forms."""
    floods = Floods()

    def page(address: str) -> Response:
        g.person = None
        try:
            found = app.addresses.find(address)
        except (NotThere, CannotOpen):
            return _page("There is no form at this address", told="The link may have been cut off. Ask for it once more.", status=404)
        if not isinstance(found.said.form, FormPage):
            return _page("There is no form at this address", told="Ask for the link once more.", status=404)
        if not found.said.form.anyone and guard.current() is None:
            return _page(found.said.form.title, told="Sign in first; then open this link again.", status=401)
        if not found.running:
            return _page(found.said.form.title, told="This form is closed at the moment. Nothing was sent.", status=503)
        return _Form(app, found, floods).answered()

    flask.add_url_rule(f"{PATH}<string:address>", view_func=page, endpoint="form", methods=["GET", "POST"])
    flask.add_url_rule("/form.js", view_func=lambda: send_from_directory(_PAGES, "form.js"), endpoint="form_script")


class _Form:
    """One request of a form."""

    def __init__(self, app: App, found: Sent, floods: Floods) -> None:
        self.app, self.found, self.floods = app, found, floods
        self.said: FormPage = found.said.form

    def answered(self) -> Response:
        try:
            self.fields = self._fields()
        except (KeyError, BadRecordType) as error:
            return _page(self.said.title, told=f"This form cannot be shown: {error}", status=503)
        if request.method == "GET":
            return self._shown()
        now = time.monotonic()
        if self.floods.too_many(f"address {request.remote_addr}", OF_ADDRESS, now) or self.floods.too_many(
            f"form {self.found.flow.name}", OF_FORM, now
        ):
            return self._shown(told="Too much was sent within a minute. Nothing is lost: wait a little, then send it again.", status=429)
        try:
            return self._sent()
        except RequestEntityTooLarge:
            return self._shown(
                told=f"That is too large: at most {self.app.settings.max_bytes / 1e6:.0f} MB can be sent at once. Nothing was sent.", status=413
            )
        except (NoRoom, StoreFailed):
            return self._shown(told="It could not be kept just now. Nothing is lost: send it again in a while.", status=503)

    def _fields(self) -> dict[str, FormField]:
        kept = self.app.catalog.record_type(self.said.record_type)[0] if self.said.record_type is not None else None
        return fields_of(self.said, kept)

    def _sent(self) -> Response:
        texts = {name: value for name, value in request.form.items() if name in self.fields}
        files = {name: (each.filename or "", each.read()) for name, each in request.files.items() if name in self.fields}
        given = filled(self.fields, texts, files, self.app.settings.max_bytes)
        if given.wrong:
            again = " Choose the files once more, too." if given.files else ""
            return self._shown(texts, given.wrong, f"Something is not right yet; it stands beside its field. Nothing was sent.{again}", 422)
        thing, pieces = thing_of(self.said, given, request.form.get("_key", "")[:60] or secrets.token_urlsafe(12), self.app.clock.now())
        why = HIDDEN if request.form.get("_website") else self.app.taking.why_not(self.found.flow, self.found.said, thing)
        try:
            if why:
                self.app.taking.let_go(self.found.flow, self.found.said, [(thing, why)], pieces[0].data).result()
            else:
                for each in self.app.taking.sent(self.found.flow, self.found.said, thing, pieces):
                    each.result()
        except OtherContent:
            return _page(
                self.said.title,
                told="This was sent already, with something else in it. To send another one, open the form anew.",
                status=409,
                again=True,
            )
        return _page(self.said.title, told=self.said.thanks, again=True)

    def _shown(self, values: dict[str, Any] | None = None, wrong: dict[str, str] | None = None, told: str = "", status: int = 200) -> Response:
        key = request.form.get("_key", "")[:60] if request.method == "POST" and status != 413 else ""
        shown: dict[str, Any] = {
            "fields": self.fields,
            "about": self.said.about,
            "values": values or {},
            "wrong": wrong or {},
            "key": key or secrets.token_urlsafe(16),
        }
        return _page(self.said.title, told=told, status=status, **shown)


def _page(title: str, *, told: str = "", status: int = 200, again: bool = False, **more: Any) -> Response:
    text = render_template_string(
        _PAGE, title=title, told=told, stopped=status >= 400, again=again, **{"fields": None, "wrong": {}, "values": {}, **more}
    )
    response = Response(text, status, content_type="text/html; charset=utf-8")
    response.headers["Content-Security-Policy"] = _POLICY
    response.headers["Referrer-Policy"] = "no-referrer"
    response.headers["Cache-Control"] = "no-store"
    return response
