"""Errors as problem details (RFC 9457): what happened, where, what to do. Never a traceback."""

from __future__ import annotations

import logging
from collections.abc import Callable, Mapping
from typing import Any

from flask import Flask, Response, request
from pydantic import ValidationError
from werkzeug.exceptions import HTTPException

from metrikon.core.decisions.model import BadTable
from metrikon.core.flows.problems import BadFlow, in_our_words
from metrikon.core.records import findings
from metrikon.core.records.typed import BadTyped
from metrikon.core.records.types import BadRecordType
from metrikon.core.values.exact import dumps
from metrikon.engine.answers import StillWrong
from metrikon.engine.arrivals import NoFlow
from metrikon.engine.refusing import NotNow, NotThere
from metrikon.ports.machine import NoRoom, short_of
from metrikon.ports.reader import Refused
from metrikon.ports.step import ReaderDied
from metrikon.service.sent_views import Sent
from metrikon.store.database import StoreFailed
from metrikon.store.events import OtherEvent
from metrikon.store.items import OtherContent

log = logging.getLogger("metrikon.service")


class Problem(Exception):
    """An error on its way to the caller."""

    def __init__(self, status: int, kind: str, detail: str, headers: Mapping[str, str] | None = None, **more: Any) -> None:
        super().__init__(detail)
        self.status, self.kind, self.detail, self.more = status, kind, detail, more
        self.headers = headers or {}


_TITLES = {
    400: "The request cannot be understood",
    401: "Sign in first",
    403: "That is not allowed",
    404: "There is nothing here",
    405: "That cannot be done here",
    409: "Not as things stand",
    413: "That is too large",
    415: "That kind of content is not taken here",
    422: "Something in it is not right",
    429: "Too many tries",
    500: "The service met an error",
    502: "What it was asked of did not answer as it should",
    503: "Not just now",
    507: "There is no room for it",
}


def respond(status: int, kind: str, detail: str, **more: Any) -> Response:
    """A problem as a response."""
    body = {"type": f"urn:metrikon:problem:{kind}", "title": _TITLES.get(status, "Error"), "status": status, "detail": detail, **more}
    return Response(dumps(body), status, content_type="application/problem+json")


def _message(error: Any, known: list[str]) -> str:
    """An error of the form checker in our words. `known`: the names that the request may hold."""
    if error["loc"][-1:] == ("id",) and error["type"] == "string_pattern_mismatch":
        return f"{error['input']!r} is no id; ids have 26 small letters and figures, as lists show them."
    return in_our_words(error, known)


def invalid(error: ValidationError) -> Response:
    """What the request types found wrong, place by place."""
    kinds = {each.__name__: each for each in Sent.__subclasses__()}
    known = sorted(kinds[error.title].model_fields) if error.title in kinds else []
    places = [{"place": "/".join(map(str, each["loc"])), "message": _message(each, known)} for each in error.errors()]
    detail = "; ".join(f"{each['place']}: {each['message']}" for each in places[:5])
    return respond(422, "invalid-request", detail, places=places)


def install(app: Flask, stopping: Callable[[], bool]) -> None:
    """Map every exception that can come up here to a problem. `stopping`: whether the service is on its way out."""

    @app.errorhandler(Problem)
    def _problem(error: Problem) -> Response:
        response = respond(error.status, error.kind, error.detail, **error.more)
        response.headers.update(error.headers)
        return response

    @app.errorhandler(BadFlow)
    def _bad_flow(error: BadFlow) -> Response:
        return respond(422, "bad-flow", str(error), problems=[each.as_json() for each in error.problems])

    @app.errorhandler(BadTable)
    def _bad_table(error: BadTable) -> Response:
        return respond(422, "bad-decision-table", str(error), problems=[{"step": "", "place": "", "message": each} for each in error.problems])

    @app.errorhandler(BadRecordType)
    def _bad_type(error: BadRecordType) -> Response:
        return respond(422, "bad-record-type", str(error))

    @app.errorhandler(BadTyped)
    def _bad_typed(error: BadTyped) -> Response:
        return respond(422, "bad-values", str(error), places=[{"place": place, "message": message} for place, message in error.problems])

    @app.errorhandler(StillWrong)
    def _still_wrong(error: StillWrong) -> Response:
        return respond(422, "still-wrong", str(error), findings=findings.as_json(error.findings))

    @app.errorhandler(NotNow)
    def _not_now(error: NotNow) -> Response:
        return respond(409, "not-now", str(error))

    @app.errorhandler(NotThere)
    def _not_there(error: NotThere) -> Response:
        return respond(404, "not-there", str(error))

    @app.errorhandler(NoFlow)
    def _no_flow(error: NoFlow) -> Response:
        return respond(404 if "no flow" in str(error) else 409, "no-flow", str(error))

    @app.errorhandler(OtherContent)
    def _other(error: OtherContent) -> Response:
        return respond(409, "other-content", str(error), item_id=error.item_id)

    @app.errorhandler(OtherEvent)
    def _other_event(error: OtherEvent) -> Response:
        return respond(409, "other-content", str(error))

    @app.errorhandler(Refused)
    def _refused(error: Refused) -> Response:
        return respond(422, error.code, error.reason)

    @app.errorhandler(ReaderDied)
    def _died(error: ReaderDied) -> Response:
        return respond(503, "reader-died", f"{error} Try again.")

    @app.errorhandler(StoreFailed)
    def _store(error: StoreFailed) -> Response:
        return respond(507 if short_of(error) else 503, "store-failed", f"{error} Nothing was changed; try again.")

    @app.errorhandler(NoRoom)
    def _no_room(error: NoRoom) -> Response:
        return respond(507, "no-room", str(error))

    @app.errorhandler(HTTPException)
    def _http(error: HTTPException) -> Response:
        return respond(error.code or 500, "http", str(error.description or error.name))

    @app.errorhandler(Exception)
    def _any(error: Exception) -> Response:
        if short := short_of(error):
            log.error("%s %r: %s", request.method, request.path, short)
            return respond(507, "no-room", f"{short}. Nothing was changed; try again when that is over.")
        if stopping():
            return respond(503, "stopping", "The service is stopping; nothing was changed. Try again when it runs.")
        log.exception("%s %r", request.method, request.path)
        return respond(
            500, "error", f"The service met an error it did not expect ({type(error).__name__}). It is in the service's log; nothing was lost."
        )
