"""Trials over reviewed records, and how complete and sure the fields of real runs are, by week."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from flask import Response
from flask_openapi3 import Tag
from pydantic import BaseModel, Field

from metrikon.app.assemble import App
from metrikon.core.records.pointers import leaves, shape
from metrikon.core.trials.tally import report, share
from metrikon.core.values.exact import loads
from metrikon.service.asked import IdPath
from metrikon.service.description import Room
from metrikon.service.problems import Problem
from metrikon.service.reply import reply
from metrikon.service.sent_views import View
from metrikon.store import trials

WEEK = 7 * 86_400_000


class TrialBody(BaseModel):
    """What is tried: the approved records of a type, read by a model."""

    record_type: str = Field(..., max_length=60)
    model: str = Field("", max_length=120, description="The service's default when left out; `pattern` uses no language model.")
    context: str = Field("", max_length=2000)
    most: int = Field(0, ge=0, le=trials.MOST, description="At most so many records; 0 for all.")


class TrialView(View):
    """A trial: what is tried and how far it has come. `state`: running, done, stopped or failed."""

    id: str
    record_type: str
    type_version: int
    model: str
    count: int
    done: int
    state: str
    problem: str
    created_at: int


class TrialList(View):
    """Trials, newest first."""

    items: list[TrialView]


class FieldCounts(View):
    """What a field came to over all documents. `completeness`: given values of those that are right to have one."""

    right: int
    wrong: int
    missing: int
    invented: int
    completeness: float | None


class Reliability(View):
    """Values whose sureness lies between `low` and `high`: how sure on average, and which share is right."""

    low: float
    high: float
    values: int
    sure: float
    right: float


class Difference(View):
    """A value that is not as it should be."""

    field: str
    what: str
    right: Any
    given: Any


class TriedDocument(View):
    """What one document came to."""

    name: str
    right: int
    wrong: int
    missing: int
    invented: int
    whole: bool
    through: bool
    tokens: int
    seconds: float
    cost: str
    problem: str
    errors: list[Difference]
    sure: list[list[Any]]
    fields: dict[str, dict[str, int]]


class TrialDetail(TrialView):
    """A trial with all it came to so far."""

    right: int
    wrong: int
    missing: int
    invented: int
    whole: int
    through: int
    through_wrong: int
    precision: float | None
    recall: float | None
    f1: float | None
    tokens: int
    seconds: float
    cost: str
    fields: dict[str, FieldCounts]
    reliability: list[Reliability]
    documents: list[TriedDocument]


class WeeksQuery(BaseModel):
    """Which runs are looked at."""

    flow: str = Field("", max_length=60)
    record_type: str = Field("", max_length=60)
    weeks: int = Field(12, ge=1, le=104)


class WeekField(View):
    """A field in a week: how many records, in which share of them it has a value, and how sure on average."""

    week: str
    field: str
    records: int
    completeness: float | None
    sure: float | None


class WeekFields(View):
    """Completeness and sureness by field, week after week (weeks begin on Mondays, UTC)."""

    items: list[WeekField]


def blueprint(app: App) -> Room:
    """Routes of trials."""
    api = Room("trials", __name__, abp_tags=[Tag(name="trials")])

    @api.post("/api/trials", responses={201: TrialView}, operation_id="startTrial")
    def start_trial(body: TrialBody) -> Response:
        """Read the approved records of a type again and set each against what a person approved; it goes on in the background."""
        try:
            found = app.trials.begin(body.record_type, body.model, body.context, body.most)
        except KeyError as error:
            raise Problem(404, "not-there", str(error.args[0])) from error
        return reply(TrialView(**_about(_row(app, found))), 201)

    @api.get("/api/trials", responses={200: TrialList}, operation_id="listTrials")
    def list_trials() -> Response:
        """Trials, newest first."""
        with app.database.reading() as connection:
            return reply(TrialList(items=[TrialView(**_about(row)) for row in trials.listed(connection)]))

    @api.get("/api/trials/<string:id>", responses={200: TrialDetail}, operation_id="getTrial")
    def get_trial(path: IdPath) -> Response:
        """What a trial came to, as far as it is."""
        row = _row(app, path.id)
        with app.database.reading() as connection:
            documents = list(trials.results(connection, path.id).values())
        told = {name: value for name, value in report(documents).items() if name not in ("documents", "unread")}
        return reply(TrialDetail(**_about(row), **told, documents=documents))

    @api.post("/api/trials/<string:id>/stop", responses={200: TrialView}, operation_id="stopTrial")
    def stop_trial(path: IdPath) -> Response:
        """Stop a trial after the document it is at; it can go on later."""
        row = _row(app, path.id)
        app.background.stop(path.id)
        return reply(TrialView(**_about(row)))

    @api.post("/api/trials/<string:id>/continue", responses={200: TrialView}, operation_id="continueTrial")
    def continue_trial(path: IdPath) -> Response:
        """Go on with a trial that was stopped or failed; nothing is paid twice."""
        row = _row(app, path.id)
        if row["state"] in ("running", "done"):
            raise Problem(409, "not-stopped", f"Trial {path.id} is {row['state']}; only a stopped or failed one goes on.")
        app.trials.go_on(row)
        return reply(TrialView(**_about(_row(app, path.id))))

    @api.get("/api/fields", responses={200: WeekFields}, operation_id="weeklyFields")
    def weekly_fields(query: WeeksQuery) -> Response:
        """How complete and how sure each field was as it was read, by week."""
        since = app.clock.now() - query.weeks * WEEK
        with app.database.reading() as connection:
            rows = trials.weekly(connection, query.flow or None, query.record_type or None, since)
        return reply(WeekFields(items=_by_week(rows)))

    return api


def _row(app: App, trial_id: str) -> dict[str, Any]:
    with app.database.reading() as connection:
        row = trials.get(connection, trial_id)
    if row is None:
        raise Problem(404, "not-there", f"There is no trial {trial_id}.")
    return row


def _about(row: dict[str, Any]) -> dict[str, Any]:
    return {name: row[name] for name in TrialView.model_fields}


def _by_week(rows: list[tuple[int, bytes, bytes]]) -> list[WeekField]:
    """Counts by week and field: rows of a list count once each."""
    counts: dict[int, int] = {}
    filled: dict[tuple[int, str], list[float]] = {}
    held: dict[tuple[int, str], set[int]] = {}
    for number, (week, values, evidence) in enumerate(rows):
        counts[week] = counts.get(week, 0) + 1
        sure = loads(evidence)
        for pointer, value in leaves(loads(values)):
            if value is not None and value != "":
                key = (week, shape(pointer))
                filled.setdefault(key, []).append(float((sure.get(pointer) or {}).get("confidence", 1.0)))
                held.setdefault(key, set()).add(number)
    fields = sorted({name for _, name in filled})
    found = []
    for week in sorted(counts):
        for name in fields:
            own = filled.get((week, name), [])
            there = len(held.get((week, name), ()))
            start = datetime.fromtimestamp(week / 1000, UTC).date().isoformat()
            found.append(
                WeekField(
                    week=start,
                    field=name,
                    records=counts[week],
                    completeness=share(there, counts[week]),
                    sure=round(sum(own) / len(own), 3) if own else None,
                )
            )
    return found
