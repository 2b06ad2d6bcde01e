"""Questions that runs put to people, and events that are sent to flows."""

from __future__ import annotations

from typing import Any

from flask import Response, g
from flask_openapi3 import Tag

from metrikon.app.assemble import App
from metrikon.engine.questions import BadAnswer
from metrikon.service.asked import IdPath, NamePath
from metrikon.service.description import Room
from metrikon.service.language_views import AnswerBody, EventBody, EventTaken, QuestionList, QuestionQuery, QuestionView, RecordBeside
from metrikon.service.problems import Problem
from metrikon.service.reply import reply
from metrikon.store import questions, records


def blueprint(app: App) -> Room:
    """The routes."""
    api = Room("questions", __name__, abp_tags=[Tag(name="questions")])

    @api.get("/api/questions", responses={200: QuestionList}, operation_id="listQuestions")
    def list_questions(query: QuestionQuery) -> Response:
        """Questions that wait for an answer, the oldest first; with another state, those."""
        with app.database.reading() as connection:
            rows = questions.listed(connection, query.state or None)
        return reply(QuestionList(items=[_shown(row) for row in rows]))

    @api.get("/api/questions/<string:id>", responses={200: QuestionView}, operation_id="getQuestion")
    def get_question(path: IdPath) -> Response:
        """One question, with its answer if it has one."""
        return reply(_one(path.id))

    @api.post("/api/questions/<string:id>/answer", responses={200: QuestionView}, operation_id="answerQuestion")
    def answer(path: IdPath, body: AnswerBody) -> Response:
        """Answer a question: its run goes on. Of two who answer at once, one wins and the other is told."""
        try:
            app.questions.answer(path.id, body.option, str(g.person), body.comment)
        except BadAnswer as error:
            raise Problem(422, "bad-answer", str(error)) from error
        return reply(_one(path.id))

    @api.post("/api/flows/<string:name>/events", responses={200: EventTaken}, operation_id="sendEvent")
    def send_event(path: NamePath, body: EventBody) -> Response:
        """Tell a flow that something has happened: what waits for an event with this key goes on."""
        try:
            found = app.questions.send(path.name, body.key, body.data, body.identity or None)
        except BadAnswer as error:
            raise Problem(422, "bad-event", str(error)) from error
        return reply(EventTaken(known=found is None, runs=found or 0))

    def _one(question_id: str) -> QuestionView:
        with app.database.reading() as connection:
            row = questions.get(connection, question_id)
        if row is None:
            raise Problem(404, "not-there", f"There is no question {question_id}.")
        with app.database.reading() as connection:
            found = [RecordBeside(id=id_, title=title) for id_, title in records.of_run(connection, row["run_id"])]
        return _shown(row).model_copy(update={"records": found})

    return api


def _shown(row: dict[str, Any]) -> QuestionView:
    return QuestionView(**{name: value for name, value in (row | row["asked"]).items() if name in QuestionView.model_fields})
