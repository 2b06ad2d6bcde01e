"""Questions answered through a signed link: whoever has it sees this one question, and answers it by a button; opening the page answers nothing."""

from __future__ import annotations

import os
import secrets
from decimal import Decimal
from pathlib import Path
from typing import Any

from flask import Response, g, render_template_string, request
from flask_openapi3 import OpenAPI, Tag
from itsdangerous import BadSignature, URLSafeSerializer

from metrikon.app.assemble import App
from metrikon.engine.questions import BadAnswer
from metrikon.engine.refusing import NotNow, NotThere
from metrikon.service.asked import IdPath
from metrikon.service.description import Room
from metrikon.service.language_views import LinkBody, LinkView
from metrikon.service.problems import Problem
from metrikon.service.reply import reply
from metrikon.store import questions

_PAGE = (Path(__file__).parent / "pages" / "question.html").read_text("utf-8")
_DAY = 86_400_000


class Links:
    """Signs and reads links. The key is made when it is first needed, in a file that only the service's user reads."""

    def __init__(self, home: Path) -> None:
        self._place = home / "links.key"

    def sign(self, question_id: str, who: str, until: int, maker: str) -> str:
        """What stands in a link."""
        return str(self._signer().dumps([question_id, who, until, maker]))

    def read(self, text: str) -> tuple[str, str, int, str]:
        """Question, who answers, until when, and who made the link. Raises `BadSignature`."""
        question_id, who, until, *maker = self._signer().loads(text)  # links of versions before 0.7 do not say who made them
        return str(question_id), str(who), int(until), str(maker[0]) if maker else ""

    def _signer(self) -> URLSafeSerializer:
        return URLSafeSerializer(self._key(), salt="question")

    def _key(self) -> str:
        try:
            handle = os.open(self._place, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        except FileExistsError:
            return self._place.read_text("ascii")
        with os.fdopen(handle, "w") as out:
            out.write(secrets.token_hex(32))
            out.flush()
            os.fsync(out.fileno())
        return self._place.read_text("ascii")


def blueprint(app: App) -> Room:
    """The route that makes links."""
    api = Room("links", __name__, abp_tags=[Tag(name="questions")])
    links = Links(app.home)

    @api.post("/api/questions/<string:id>/link", responses={201: LinkView}, operation_id="linkQuestion")
    def link(path: IdPath, body: LinkBody) -> Response:
        """A signed link by which somebody answers this question without signing in; it is kept as theirs."""
        with app.database.reading() as connection:
            question = questions.get(connection, path.id)
        if question is None:
            raise Problem(404, "not-there", f"There is no question {path.id}.")
        wanted = question["asked"]["who"]
        if wanted and body.who not in wanted:
            raise Problem(422, "not-asked", f"This question is for {', '.join(wanted)}.")
        until = app.clock.now() + int(body.days * _DAY)
        maker = str(g.person)
        if g.role != "admin" and body.who != maker:
            raise Problem(
                403, "not-yours", f"A link is for whoever makes it: give {maker!r} as who answers, or ask an admin for a link for somebody else."
            )
        return reply(LinkView(url=f"{app.address}/answer/{links.sign(path.id, body.who, until, maker)}", who=body.who, until=until), 201)

    return api


def install(flask: OpenAPI, app: App) -> None:
    """The page behind a link."""
    links = Links(app.home)

    def page(signed: str) -> Response:
        g.person = None
        try:
            question_id, who, until, maker = links.read(signed)
        except BadSignature:
            return _page("This link is not valid", told="It may have been cut off. Ask for another one.", status=404)
        if until < app.clock.now():
            return _page("This link may be used no longer", told="Ask for another one.", status=410)
        told, status, comment = "", 200, ""
        if request.method == "POST":
            comment = request.form.get("comment", "")
            try:
                app.questions.answer(question_id, request.form.get("option", ""), who, comment, _by_link(who, maker))
            except (BadAnswer, NotNow, NotThere) as error:
                told, status = str(error), 422 if isinstance(error, BadAnswer) else 409
        with app.database.reading() as connection:
            question = questions.get(connection, question_id)
        if question is None:
            return _page("This question is no longer kept", status=410)
        return _page(question["asked"]["question"], who, question | question["asked"], told, comment, status=status)

    flask.add_url_rule("/answer/<string:signed>", view_func=page, endpoint="answer", methods=["GET", "POST"])


def _by_link(who: str, maker: str) -> str:
    """By whom an answer is kept: it came by a link, and by whose."""
    return f"{who} (by link)" if maker in ("", who) else f"{who} (by a link of {maker})"


def _page(title: str, who: str = "", question: dict[str, Any] | None = None, told: str = "", comment: str = "", *, status: int = 200) -> Response:
    stopped = status >= 400
    if question is not None:
        question["evidence"] = question.get("evidence") or {}
        if question["state"] == "answered" and not told:
            label = next((each["label"] for each in question["options"] if each["name"] == question["answer"]), question["answer"])
            why = f" ({question['comment']})" if question["comment"] else ""
            told = f"{question['answered_by']} answered: {label}{why}. You may close this page."
        elif question["state"] == "closed" and not told:
            told = "It is no longer asked: its run went on or ended."
    text = render_template_string(_PAGE, title=title, who=who, question=question, told=told, stopped=stopped, comment=comment, shown=_shown)
    response = Response(text, status, content_type="text/html; charset=utf-8")
    response.headers["Referrer-Policy"] = "no-referrer"
    response.headers["Cache-Control"] = "no-store"
    return response


def _shown(value: Any) -> str:
    """A value as people read it."""
    if isinstance(value, list):
        return ", ".join(_shown(each) for each in value)
    if isinstance(value, dict):
        return ", ".join(f"{name}: {_shown(each)}" for name, each in value.items())
    if isinstance(value, bool) or value is None:
        return {True: "yes", False: "no", None: "nothing"}[value]
    return f"{value:,f}" if isinstance(value, Decimal) else str(value)
