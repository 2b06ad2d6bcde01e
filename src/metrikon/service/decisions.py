"""Decision tables: kept in versions, tried, read and written as DMN."""

from __future__ import annotations

from typing import Any

from flask import Response
from flask_openapi3 import Tag

from metrikon.app.assemble import App
from metrikon.core.decisions import dmn
from metrikon.core.decisions.deciding import Undecided, decide
from metrikon.core.decisions.gaps import gaps
from metrikon.core.decisions.model import BadTable
from metrikon.core.feel import BadExpression, FeelError, plain
from metrikon.service.asked import NamePath
from metrikon.service.description import Room
from metrikon.service.language_views import AskTableBody, DecisionView, TableList, TableView
from metrikon.service.problems import Problem
from metrikon.service.reply import reply
from metrikon.service.sent import text_sent
from metrikon.store import flows


def blueprint(app: App) -> Room:
    """The routes."""
    api = Room("decisions", __name__, abp_tags=[Tag(name="decision tables")])

    @api.get("/api/decision-tables", responses={200: TableList}, operation_id="listDecisionTables")
    def list_tables() -> Response:
        """Every decision table in its newest version."""
        with app.database.reading() as connection:
            rows = flows.all_decision_tables(connection)
        return reply(TableList(items=[_shown(app, row) for row in rows]))

    @api.put("/api/decision-tables/<string:name>", responses={200: TableView}, operation_id="putDecisionTable")
    def put_table(path: NamePath) -> Response:
        """Keep a decision table. The body is its YAML, or DMN XML; what it leaves open is told, rules that may not hold at once are refused."""
        text = text_sent()
        table, _ = app.catalog.checked_table(text)
        if table.decision != path.name:
            raise Problem(422, "other-name", f"The table calls itself {table.decision!r}, but was put as {path.name!r}. Make them the same.")
        name, version, told = app.catalog.put_decision_table(text)
        return reply(TableView(name=name, version=version, about=table.about, text=text, created_at=app.clock.now(), open=told))

    @api.get("/api/decision-tables/<string:name>/dmn", responses={200: {"content": {"application/xml": {}}}}, operation_id="decisionTableAsDmn")
    def as_dmn(path: NamePath) -> Response:
        """A decision table as DMN 1.5 XML, for other programs."""
        try:
            table, _ = app.catalog.decision_table(path.name)
        except KeyError as error:
            raise Problem(404, "not-there", str(error.args[0])) from error
        return Response(dmn.written(table), content_type="application/xml")

    @api.post("/api/decision-tables/<string:name>/decide", responses={200: DecisionView}, operation_id="decide")
    def decide_with(path: NamePath, body: AskTableBody) -> Response:
        """What a decision table decides, and which rules hold."""
        try:
            table, _ = app.catalog.decision_table(path.name)
        except KeyError as error:
            raise Problem(404, "not-there", str(error.args[0])) from error
        try:
            found = decide(table, body.given)
        except (Undecided, BadExpression, FeelError) as error:
            raise Problem(422, "undecided", str(error)) from error
        return reply(DecisionView(outcome=plain(found.outcome), rules=list(found.rules), inputs=plain(found.inputs), missing=list(found.missing)))

    return api


def _shown(app: App, row: dict[str, Any]) -> TableView:
    try:
        table, _ = app.catalog.decision_table(row["name"], row["version"])
    except BadTable as error:
        return TableView(**row, about="", open=error.problems)
    return TableView(**row, about=table.about, open=gaps(table))
