"""People who may sign in, and what they may do."""

from __future__ import annotations

import secrets

from flask import Response
from flask_openapi3 import Tag

from metrikon.app.assemble import App
from metrikon.service.asked import PersonBody, PersonPath
from metrikon.service.auth import set_password
from metrikon.service.description import Room
from metrikon.service.problems import Problem
from metrikon.service.reply import reply
from metrikon.service.views import PeopleList, PersonPut, PersonView
from metrikon.store import people


def blueprint(app: App) -> Room:
    """The routes."""
    api = Room("people", __name__, abp_tags=[Tag(name="people and tokens")])

    @api.get("/api/people", responses={200: PeopleList}, operation_id="listPeople")
    def list_people() -> Response:
        """Everyone who may sign in, with their role."""
        with app.database.reading() as connection:
            rows = people.all_people(connection)
        return reply(PeopleList(items=[PersonView.model_validate(row) for row in rows]))

    @api.put("/api/people/<string:name>", responses={200: PersonPut}, operation_id="putPerson")
    def put_person(path: PersonPath, body: PersonBody) -> Response:
        """Let a person in, or change their password or role. For a new one without a password one is made, which only this answer holds."""
        with app.database.reading() as connection:
            known = people.password_hash(connection, path.name) is not None
        made = secrets.token_urlsafe(12) if not known and body.password is None else None
        try:
            set_password(app, path.name, body.password if body.password is not None else made, body.role)
        except people.LastAdmin as error:
            raise Problem(409, "last-admin", str(error)) from error
        with app.database.reading() as connection:
            row = next(each for each in people.all_people(connection) if each["name"] == path.name)
        return reply(PersonPut.model_validate({**row, "new": not known, "password": made}))

    @api.delete("/api/people/<string:name>", responses={204: None}, operation_id="dropPerson")
    def drop_person(path: PersonPath) -> Response:
        """Let a person in no more: their sessions end at once."""
        try:
            there = app.database.write(lambda connection: people.drop_person(connection, path.name))
        except people.LastAdmin as error:
            raise Problem(409, "last-admin", str(error)) from error
        if not there:
            raise Problem(404, "not-there", f"There is nobody named {path.name!r}.")
        return Response(status=204)

    return api
