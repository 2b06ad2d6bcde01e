"""Flows: kept in versions, on or off."""

from __future__ import annotations

from typing import Any

from flask import Response
from flask_openapi3 import APIBlueprint, Tag

from metrikon.app.assemble import App
from metrikon.core.flows.schema import flow_schema
from metrikon.core.values.exact import dumps
from metrikon.service.asked import NamePath, PasswordsBody, SwitchBody
from metrikon.service.language_views import FlowCheck, FlowProblem, SchemaView
from metrikon.service.problems import Problem
from metrikon.service.reply import reply
from metrikon.service.sent import text_sent
from metrikon.service.views import (
    FlowList,
    FlowView,
    PasswordsView,
    PutView,
)
from metrikon.store import flows


def blueprint(app: App) -> APIBlueprint:
    """The routes."""
    api = APIBlueprint("flows", __name__, abp_tags=[Tag(name="flows")])

    @api.get("/api/flows", responses={200: FlowList}, operation_id="listFlows")
    def list_flows() -> Response:
        """Every flow in its newest version."""
        with app.database.reading() as connection:
            rows = flows.all_flows(connection)
        return reply(FlowList(items=[_flow(app, row) for row in rows]))

    @api.put("/api/flows/<string:name>", responses={200: PutView}, operation_id="putFlow")
    def put_flow(path: NamePath) -> Response:
        """Keep a flow. The body is its YAML; it is verified first, and all that is wrong is told at once."""
        text = text_sent()
        flow = app.catalog.checked_flow(text)
        if flow.name != path.name:
            raise Problem(422, "other-name", f"The flow names itself {flow.name!r}, but was put as {path.name!r}. Make them the same.")
        name, version = app.catalog.put_flow(text)
        return reply(PutView(name=name, version=version))

    @api.post("/api/flows-check", responses={200: FlowCheck}, operation_id="checkFlow")
    def check_flow() -> Response:
        """All that is wrong with a flow, with line and column. The body is its YAML; nothing is kept."""
        flow, problems = app.catalog.problems_in(text_sent())
        return reply(FlowCheck(name=flow.name if flow else "", problems=[FlowProblem(**each.as_json()) for each in problems]))

    @api.get("/api/flows-schema", responses={200: SchemaView}, operation_id="flowSchema")
    def schema() -> Response:
        """The JSON Schema of flows, with the kinds of step, intake and destination that this service knows."""
        return reply(SchemaView(text=dumps(flow_schema(app.kinds.language)).decode()))

    @api.post("/api/flows/<string:name>/switch", responses={200: PutView}, operation_id="switchFlow")
    def switch(path: NamePath, body: SwitchBody) -> Response:
        """Switch a flow on or off; off, it takes nothing in."""
        with app.database.reading() as connection:
            row = flows.get_flow(connection, path.name)
        if row is None:
            raise Problem(404, "not-there", f"There is no flow {path.name!r}.")
        app.database.write(lambda connection: flows.switch_flow(connection, path.name, body.running, app.clock.now()))
        return reply(PutView(name=path.name, version=row["version"]))

    @api.put("/api/flows/<string:name>/passwords", responses={200: PasswordsView}, operation_id="putPasswords")
    def put_passwords(path: NamePath, body: PasswordsBody) -> Response:
        """Set the passwords that open encrypted files of a flow, in the place of those before. They are never given out."""
        with app.database.reading() as connection:
            if flows.get_flow(connection, path.name) is None:
                raise Problem(404, "not-there", f"There is no flow {path.name!r}.")
        app.passwords.put(path.name, [each for each in body.passwords if each])
        return reply(PasswordsView(flow=path.name, count=len(app.passwords.of(path.name))))

    return api


def _flow(app: App, row: dict[str, Any]) -> FlowView:
    return FlowView(**row, about=app.catalog.flow(row["name"], row["version"]).about.strip())
