"""What models were asked and answered, what they cost, and what they would cost."""

from __future__ import annotations

from datetime import UTC, datetime
from decimal import Decimal
from typing import Any

from flask import Response, request
from flask_openapi3 import Tag

from metrikon.app.assemble import App
from metrikon.ports.reader import Refused
from metrikon.ports.step import ReaderDied
from metrikon.service.asked import IdPath, NamePath, SpendQuery
from metrikon.service.description import Room
from metrikon.service.known import no_flow
from metrikon.service.model_views import CallDetail, CallList, CallView, EstimateView, ModelList, ModelView, SpendDay, SpendView
from metrikon.service.problems import Problem
from metrikon.service.reply import reply
from metrikon.store import calls, flows

DAY = 86_400_000


def blueprint(app: App) -> Room:
    """Routes of models."""
    api = Room("models", __name__, abp_tags=[Tag(name="models")])

    @api.get("/api/models", responses={200: ModelList}, operation_id="listModels")
    def list_models() -> Response:
        """Every model with its prices and limits; keys are never shown."""
        resting = app.board.breaker.resting()
        found = [ModelView(name=name, default=name == app.default_model, resting=name in resting, **_spec(app, name)) for name in app.models]
        return reply(ModelList(items=found))

    @api.get("/api/runs/<string:id>/calls", responses={200: CallList}, operation_id="listCalls")
    def list_calls(path: IdPath) -> Response:
        """The calls of models in a run, oldest first."""
        with app.database.reading() as connection:
            rows = calls.of_run(connection, path.id)
        return reply(CallList(items=[CallView(**_shown(row)) for row in rows]))

    @api.get("/api/calls/<string:id>", responses={200: CallDetail}, operation_id="getCall")
    def get_call(path: IdPath) -> Response:
        """A call with what was asked and answered, as long as that is kept (setting keep_calls_days)."""
        with app.database.reading() as connection:
            row = calls.get(connection, path.id)
            if row is not None and row["outcome"] == "kept":
                first = calls.kept(connection, row["request"])
                row = {**row, "answer": first[1] if first else None}
        if row is None:
            raise Problem(404, "not-there", f"There is no call {path.id}.")
        prompt, answer = row["prompt"] or {}, row["answer"] or {}
        asked = {"messages": prompt.get("messages", []), "pictures": prompt.get("pictures", []), "schema_": prompt.get("schema")}
        return reply(CallDetail(**_shown(row), **asked, answer=answer.get("text")))

    @api.get("/api/spend", responses={200: SpendView}, operation_id="getSpend")
    def get_spend(query: SpendQuery) -> Response:
        """What models cost, by day (UTC) and flow, and what is allowed."""
        today = app.clock.now() // DAY * DAY
        with app.database.reading() as connection:
            rows = calls.by_day(connection, today - (query.days - 1) * DAY)
        days = [SpendDay(day=_date(at), flow=flow, cost=f"{cost.normalize():f}", calls=count) for at, flow, cost, count in rows]
        limits = {name: f"{getattr(app.settings, name).normalize():f}" for name in ("spend_run", "spend_flow", "spend_day")}
        spent = sum((Decimal(each.cost) for each in days if each.day == _date(today)), Decimal(0))
        return reply(SpendView(currency=app.settings.price_currency, today=f"{spent.normalize():f}", days=days, **limits))

    @api.post("/api/flows/<string:name>/estimate", responses={200: EstimateView}, operation_id="estimateFile")
    def estimate_file(path: NamePath) -> Response:
        """What a file would cost in a flow: the body is its bytes. It is read, but nothing is kept and no model is asked."""
        data = request.get_data(cache=False)
        if len(data) > app.settings.max_bytes:
            raise Problem(
                413, "too-large", f"The file has {len(data) / 1e6:.1f} MB; the limit is {app.settings.max_bytes / 1e6:.1f} MB (setting max_bytes)."
            )
        with app.database.reading() as connection:
            standing = flows.standing(connection, path.name)
        if standing is None:
            raise no_flow(app, path.name)
        try:
            found = app.estimating.of(app.catalog.flow(path.name, standing[0]), data, app.passwords.of(path.name))
        except (Refused, ReaderDied) as error:
            reason = error.reason if isinstance(error, Refused) else str(error)
            return reply(
                EstimateView(requests=0, input_tokens=0, output_tokens=0, cost="0", currency=app.settings.price_currency, refused=reason, unknown="")
            )
        view = EstimateView(
            requests=found.requests,
            input_tokens=found.input_tokens,
            output_tokens=found.output_tokens,
            cost=f"{found.cost.normalize():f}",
            currency=app.settings.price_currency,
            refused="",
            unknown=found.unknown,
        )
        return reply(view)

    return api


def _spec(app: App, name: str) -> dict[str, Any]:
    spec = app.board.specs.get(name)
    if spec is None:
        return {}
    mode = getattr(app.models[name], "mode", "")
    return {
        "url": spec.url,
        "context": spec.context,
        "price_in": f"{spec.price_in:f}",
        "price_out": f"{spec.price_out:f}",
        "fallback": list(spec.fallback),
        "answers": mode,
        "pictures": app.models[name].sees,
    }


def _shown(row: dict[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in row.items() if name in CallView.model_fields}


def _date(at: int) -> str:
    return datetime.fromtimestamp(at / 1000, UTC).date().isoformat()
