"""Services of connections: their OpenAPI description, the operations in it, and the notes that a person confirms."""

from __future__ import annotations

from typing import Any

from flask import Response, request
from flask_openapi3 import Tag
from pydantic import Field

from metrikon.app.assemble import App
from metrikon.connections.fetching import FetchFailed, Wanted
from metrikon.core.services.description import BadDescription, Description
from metrikon.core.services.notes import Notes, suggested, summary
from metrikon.core.services.telling import ToldOperation
from metrikon.engine.describing import LARGEST, BadNotes
from metrikon.service.asked import NamePath
from metrikon.service.description import Room
from metrikon.service.problems import Problem
from metrikon.service.reply import reply
from metrikon.service.sent_views import Sent, View


class OperationField(View):
    """A value that an operation takes (`place`: path, query, header, body), or gives (answer)."""

    name: str
    place: str
    kind: str
    wanted: bool
    about: str
    choices: list[str]


class OperationView(View):
    """Something that the service can be asked for."""

    name: str
    method: str
    path: str
    about: str
    fields: list[OperationField]
    answer: list[OperationField]


class DescribedView(View):
    """What a service says of itself, and what was noted of it. `suggested`: the notes are a guess that nobody has confirmed; `follows`: by kind of record what
    keeps one from being written twice ("enforces", "finds" or "neither"), and how many go in one call."""

    title: str
    version: str
    operations: list[OperationView]
    notes: dict[str, Any]
    suggested: bool
    follows: dict[str, Any]


class DescribeQuery(View):
    at: str = Field(
        "", max_length=1000, description="Where the service gives its description, after the address of the connection; else it is the body."
    )


class OperationPath(NamePath):
    operation: str = Field(..., max_length=100)


class NotesBody(Sent):
    notes: dict[str, Any] = Field(..., description="Kinds of records, each with the operations that make, find and set them.")


def blueprint(app: App) -> Room:
    """The routes."""
    api = Room("described", __name__, abp_tags=[Tag(name="connections")])

    @api.put("/api/connections/<string:name>/description", responses={200: DescribedView}, operation_id="describeService")
    def put_description(path: NamePath, query: DescribeQuery) -> Response:
        """Keep the OpenAPI description of a connection's service: the body (JSON or YAML), or what the service gives under `at`."""
        try:
            data = request.get_data()
            if query.at:
                data = app.outside.fetch(Wanted(query.at, LARGEST, connection=path.name, redirects=0)).data or b""
            told, notes = app.describing.put(path.name, data)
        except FetchFailed as error:
            raise Problem(422, "bad-description", str(error)) from error
        except BadDescription as error:
            raise Problem(422, "bad-description", str(error)) from error
        return reply(_view(told, notes, suggested=app.describing.notes(path.name) != notes))

    @api.get("/api/connections/<string:name>/description", responses={200: DescribedView}, operation_id="getDescription")
    def get_description(path: NamePath) -> Response:
        """What a connection's service says of itself, and what was noted of it."""
        return _known(app, path.name)

    @api.put("/api/connections/<string:name>/notes", responses={200: DescribedView}, operation_id="noteService")
    def put_notes(path: NamePath, body: NotesBody) -> Response:
        """Confirm what matters for writing once: which operation makes a record, which finds it, which sets it, and what else was noted."""
        try:
            noted = app.describing.note(path.name, body.notes)
        except BadNotes as error:
            raise Problem(422, "bad-notes", str(error)) from error
        told = app.describing.seen(path.name)
        assert told is not None
        return reply(_view(told, noted, suggested=False))

    @api.put("/api/connections/<string:name>/operations/<string:operation>", responses={200: DescribedView}, operation_id="tellOperation")
    def put_operation(path: OperationPath, body: ToldOperation) -> Response:
        """Tell an operation by hand: of a service without a description, or beside those that its description has."""
        try:
            app.describing.tell(path.name, path.operation, body)
        except BadDescription as error:
            raise Problem(422, "bad-description", str(error)) from error
        return _known(app, path.name)

    @api.delete("/api/connections/<string:name>/operations/<string:operation>", responses={200: DescribedView}, operation_id="removeOperation")
    def remove_operation(path: OperationPath) -> Response:
        """Know an operation no longer; not while the notes name it."""
        app.describing.untell(path.name, path.operation)
        return _known(app, path.name)

    return api


def _known(app: App, name: str) -> Response:
    """What is known of a service; notes that nobody has confirmed are a guess."""
    told = app.describing.seen(name)
    if told is None:
        raise Problem(
            404, "not-described", f"The service of the connection {name} is not described. Give it its OpenAPI description, or tell its operations."
        )
    noted = app.describing.notes(name)
    return reply(_view(told, noted or suggested(told), suggested=noted is None))


def _view(told: Description, notes: Notes, *, suggested: bool) -> DescribedView:
    operations = [
        OperationView(
            name=each.name,
            method=each.method,
            path=each.path,
            about=each.about,
            fields=[_field(one) for one in each.fields],
            answer=[_field(one) for one in each.answer],
        )
        for each in told.operations.values()
    ]
    noted = notes.model_dump(exclude_defaults=True, by_alias=True)
    return DescribedView(title=told.title, version=told.version, operations=operations, notes=noted, suggested=suggested, follows=summary(notes))


def _field(said: Any) -> OperationField:
    return OperationField(name=said.name, place=said.place, kind=said.kind, wanted=said.wanted, about=said.about, choices=list(said.choices))
