"""Flows: kept in versions, on or off."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict
from typing import Any

from flask import Response, g, request
from flask_openapi3 import Tag
from sqlalchemy import Connection

from metrikon.app.assemble import App
from metrikon.core.flows.differences import differences
from metrikon.core.flows.kind import Known
from metrikon.core.flows.lines import with_lines
from metrikon.core.flows.model import Flow
from metrikon.core.flows.problems import BadFlow
from metrikon.core.flows.schema import flow_schema
from metrikon.core.flows.secret import masked
from metrikon.core.flows.telling import told
from metrikon.core.flows.verify import verify
from metrikon.core.values.exact import dumps
from metrikon.engine.looking import state_of, values_in
from metrikon.service.asked import IdPath, NamePath, PasswordsBody, PutFlowQuery, SwitchBody
from metrikon.service.description import Room
from metrikon.service.known import no_flow
from metrikon.service.language_views import (
    FlowCheck,
    FlowLine,
    FlowPage,
    FlowProblem,
    FlowVersion,
    SchemaView,
    SettingView,
    TriedFlow,
    TriedStep,
    TryQuery,
    ValueList,
    ValueView,
)
from metrikon.service.problems import Problem
from metrikon.service.reply import reply
from metrikon.service.sent import text_sent
from metrikon.service.views import (
    FlowList,
    FlowPut,
    FlowView,
    PasswordsView,
    ToldList,
)
from metrikon.store import flows, items, runs

MOST_VERSIONS = 50  # that are told


def blueprint(app: App) -> Room:
    """The routes."""
    api = Room("flows", __name__, abp_tags=[Tag(name="flows")])

    @api.get("/api/flows", responses={200: FlowList}, operation_id="listFlows")
    def list_flows() -> Response:
        """Every flow in its newest version."""
        with app.database.reading() as connection:
            rows = flows.all_flows(connection)
            paused = flows.paused_flows(connection)
        known = app.catalog.known()
        return reply(FlowList(items=[_flow(app, row, paused, known) for row in rows]))

    @api.get("/api/flows/<string:name>", responses={200: FlowPage}, operation_id="getFlow")
    def get_flow(path: NamePath) -> Response:
        """One flow: its steps as sentences, what is wrong with it now, and what changed from version to version."""
        with app.database.reading() as connection:
            versions = flows.flow_versions(connection, path.name)
            paused = path.name in flows.paused_flows(connection)
        if not versions:
            raise no_flow(app, path.name)
        newest = versions[0]
        flow, problems = app.catalog.problems_in(newest["text"])
        if flow is None:
            flow = app.catalog.flow(path.name, newest["version"])
        view = FlowPage(
            name=path.name,
            version=newest["version"],
            running=newest["running"],
            paused=paused,
            about=flow.about.strip(),
            zone=flow.head.zone,
            text=masked(newest["text"]),
            comes=_comes(app, flow),
            goes=_goes(app, flow),
            lines=[FlowLine(**asdict(each)) for each in told(flow)],
            problems=[FlowProblem(**each.as_json()) for each in problems],
            settings=[SettingView(name=name, **each.model_dump()) for name, each in flow.head.settings.items()],
            versions=list(_versions(app, path.name, versions[:MOST_VERSIONS])),
        )
        return reply(view)

    @api.post("/api/flows/<string:name>/try", responses={200: TriedFlow}, operation_id="tryFlow")
    def try_flow(path: NamePath, query: TryQuery) -> Response:
        """Try a flow on a file (the body), or on an item that came in: what each step gives, and what would leave the house. Nothing does."""
        try:
            flow = app.catalog.newest_flow(path.name)
        except KeyError as error:
            raise Problem(404, "not-there", str(error.args[0])) from error
        if query.sample:
            found = app.samples.whole(path.name, query.sample)
            sha256, name, about = str(found["sha256"]), str(found["file_name"]), found["data"]
        elif query.item:
            with app.database.reading() as connection:
                row = items.whole(connection, query.item)
            if row is None:
                raise Problem(404, "not-there", f"There is no item {query.item}.")
            found = row
            sha256, name, about = str(found["sha256"]), str(found["name"]), found["data"]
        else:
            data = request.get_data(cache=False)
            if not data:
                raise Problem(422, "no-file", "Send the file as the body, or name an item with `item`, or a sample with `sample`.")
            sha256, name, about = app.files.put(data), query.name, None
        found_out = app.trying.run(flow, sha256, name, query.until, recorded=query.recorded, data=about)
        view = TriedFlow(
            steps=[TriedStep(**asdict(each)) for each in found_out.steps],
            stands=found_out.stands,
            told=list(found_out.told),
            reason=found_out.reason,
            values=[ValueView(**asdict(each)) for each in found_out.values],
        )
        return reply(view)

    @api.get("/api/runs/<string:id>/values", responses={200: ValueList}, operation_id="valuesOfRun")
    def values(path: IdPath) -> Response:
        """What the steps of a run gave, value by value, each with its path and type."""
        with app.database.reading() as connection:
            run = runs.get(connection, path.id)
        if run is None:
            raise Problem(404, "not-there", f"There is no run {path.id}.")
        state = state_of(app.database, app.catalog, app.files, path.id, run["flow"], run["flow_version"])
        return reply(ValueList(items=[ValueView(**asdict(each)) for each in values_in(state)]))

    @api.put("/api/flows/<string:name>", responses={200: FlowPut}, operation_id="putFlow")
    def put_flow(path: NamePath, query: PutFlowQuery) -> Response:
        """Keep a flow. The body is its YAML; it is verified first, and all that is wrong is told at once."""
        text = text_sent()
        flow = app.catalog.checked_flow(text)
        if flow.name != path.name:
            raise Problem(422, "other-name", f"The flow names itself {flow.name!r}, but was put as {path.name!r}. Make them the same.")
        name, version = app.catalog.put_flow(text, str(g.person), query.why, running=not query.off)
        waits = app.watching.wait_for_yes(flow)
        for said in waits if query.on else ():
            app.watching.agree(flow, said)
        kept = app.catalog.newest_flow(name)
        waiting = [] if query.on else [said.name for said in waits]
        return reply(FlowPut(name=name, version=version, waits=waiting, told=app.beforehand.told(kept), places=app.beforehand.places(kept)))

    @api.post("/api/flows-check", responses={200: FlowCheck}, operation_id="checkFlow")
    def check_flow() -> Response:
        """All that is wrong with a flow, with line and column. The body is its YAML; nothing is kept."""
        text = text_sent()
        flow, problems = app.catalog.problems_in(text)
        noted = with_lines(app.catalog.remarks_on(flow), text) if flow is not None else []
        return reply(
            FlowCheck(
                name=flow.name if flow else "",
                problems=[FlowProblem(**each.as_json()) for each in problems],
                remarks=[FlowProblem(**each.as_json()) for each in noted],
            )
        )

    @api.get("/api/flows-schema", responses={200: SchemaView}, operation_id="flowSchema")
    def schema() -> Response:
        """The JSON Schema of flows, with the kinds of step, intake and destination that this service knows."""
        return reply(SchemaView(text=dumps(flow_schema(app.kinds.language)).decode()))

    @api.post("/api/flows/<string:name>/switch", responses={200: FlowPut}, operation_id="switchFlow")
    def switch(path: NamePath, body: SwitchBody) -> Response:
        """Switch a flow on or off, or pause it. Off, it takes nothing in; paused, what comes in waits, and no run of it is worked on."""
        with app.database.reading() as connection:
            row = flows.get_flow(connection, path.name)
        if row is None:
            raise no_flow(app, path.name)

        now, by = app.clock.now(), str(g.person)

        def job(connection: Connection) -> None:
            flows.switch_flow(connection, path.name, body.running, now)
            flows.pause_flow(connection, path.name, body.paused, by, now)

        app.database.write(job)
        app.engine.wake()
        if not body.running or body.paused:
            return reply(FlowPut(name=path.name, version=row["version"]))
        flow = _newest(app, path.name)
        waits = [said.name for said in app.watching.wait_for_yes(flow)]
        return reply(FlowPut(name=path.name, version=row["version"], waits=waits, told=app.beforehand.told(flow)))

    @api.get("/api/flows/<string:name>/foretold", responses={200: ToldList}, operation_id="foretold")
    def foretold(path: NamePath) -> Response:
        """What is to be told of a flow before it takes anything in: destinations that take no row, flows that take the same things."""
        return reply(ToldList(told=app.beforehand.told(_newest(app, path.name))))

    @api.put("/api/flows/<string:name>/passwords", responses={200: PasswordsView}, operation_id="putPasswords")
    def put_passwords(path: NamePath, body: PasswordsBody) -> Response:
        """Set the passwords that open encrypted files of a flow, in the place of those before. They are never given out."""
        with app.database.reading() as connection:
            if flows.get_flow(connection, path.name) is None:
                raise no_flow(app, path.name)
        app.passwords.put(path.name, [each for each in body.passwords if each])
        return reply(PasswordsView(flow=path.name, count=len(app.passwords.of(path.name))))

    return api


def _newest(app: App, name: str) -> Flow:
    """A flow in its newest version. Raises `Problem`."""
    try:
        return app.catalog.newest_flow(name)
    except KeyError as error:
        raise no_flow(app, name) from error


def _flow(app: App, row: dict[str, Any], paused: set[str], known: Known) -> FlowView:
    row = {**row, "put_by": row["put_by"] or "", "why": row["why"] or "", "text": masked(row["text"])}
    try:
        flow = app.catalog.flow(row["name"], row["version"])
    except BadFlow as error:  # kept by an older version of the program
        return FlowView(**row, about="", paused=row["name"] in paused, wrong=len(error.problems))
    wrong = len(verify(flow, known)) + len(app.catalog.barred(flow))
    return FlowView(**row, about=flow.about.strip(), paused=row["name"] in paused, comes=_comes(app, flow), goes=_goes(app, flow), wrong=wrong)


def _comes(app: App, flow: Flow) -> list[str]:
    return [app.kinds.intakes[each.kind].tell(each.form) for each in flow.intakes if each.kind in app.kinds.intakes]


def _goes(app: App, flow: Flow) -> list[str]:
    every = flow.destinations.values()
    rows = [app.kinds.destinations[each.kind].tell(each.form) for each in every if each.kind in app.kinds.destinations]
    others = [step.kind.goes(step.parameters) for step in flow.every_step if step.kind.goes is not None]
    return [*rows, *dict.fromkeys(each for each in others if each)]


def _versions(app: App, name: str, rows: list[dict[str, Any]]) -> Iterator[FlowVersion]:
    for newer, older in zip(rows, [*rows[1:], None], strict=True):
        changes = _changes(app, name, older["version"], newer["version"]) if older is not None else []
        row = {"put_by": newer["put_by"] or "", "why": newer["why"] or ""}
        yield FlowVersion(version=newer["version"], created_at=newer["created_at"], changes=changes, **row)


def _changes(app: App, name: str, older: int, newer: int) -> list[str]:
    try:
        found = differences(app.catalog.flow(name, older), app.catalog.flow(name, newer))
        return [masked(each) for each in found] or ["Only its remarks or its order of writing changed."]
    except BadFlow:
        return ["What changed cannot be told: one of the two is of an older form."]
