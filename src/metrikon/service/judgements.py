"""Judgements: listed and set right by people; the anchors that keep their level; judged again, to see who would move."""

from __future__ import annotations

from typing import Any

import msgspec
from flask import Response, g
from flask_openapi3 import Tag
from pydantic import Field

from metrikon.app.assemble import App
from metrikon.core.flows.problems import BadFlow
from metrikon.core.judging.anchors import MOST, USUAL, version_of
from metrikon.core.judging.criteria import Anchor, Criterion
from metrikon.core.judging.moving import label_of
from metrikon.core.judging.quotes import quotes
from metrikon.engine import marking
from metrikon.engine.level import Chosen
from metrikon.engine.looking import judged_in
from metrikon.engine.refusing import NotThere
from metrikon.service.asked import LARGEST, IdPath, NamePath
from metrikon.service.description import Room
from metrikon.service.problems import Problem
from metrikon.service.reply import reply
from metrikon.service.sent_views import Sent, View
from metrikon.service.views import EvidenceView, FindingView
from metrikon.store import judged, runs


class ScaleMark(View):
    """A mark of a scale, and what earns it."""

    mark: int
    earns: str


class GivenMark(View):
    """The mark of one criterion. `second`: that of a second reading; `was`: the mark before a person (`by`) set it right."""

    name: str
    mark: int
    of: int
    weight: int = 1
    must: bool = False
    reason: str = ""
    earns: str = ""
    missing: str = ""
    why_not_higher: str = ""
    evidence: EvidenceView | None = None
    sure: float = 1.0
    by: str = ""
    was: int | None = None
    second: int | None = None
    scale: list[ScaleMark] = Field([], description="What marks there are; given with one judgement, not in lists.")


class JudgementRow(View):
    """A judgement: of an item, by a step of its flow. `label`: what a person set right or answered counts before what the model said."""

    id: str
    item_id: str
    item_name: str
    run_id: str
    step: str
    path: str
    total: int
    label: str
    sure: float
    needs_person: bool
    stand_in: bool
    marks: list[GivenMark]
    at: int
    answered_by: str | None = None
    corrected_by: str | None = None
    comment: str | None = None
    current: bool = Field(..., description="Whether it was given by the criteria that the flow has now.")


class AnchorView(View):
    """An earlier judged document that the level is kept by, as it was when it was chosen."""

    id: str
    total: int
    corrected: bool
    marks: dict[str, int]


class MarkingStep(View):
    """A step that marks, with the anchors of its criteria and since when they stand; none where none were chosen."""

    step: str
    anchors: list[AnchorView]
    since: int | None = None
    by: str = ""


class JudgementList(View):
    """The newest judgement of each item, the best first, and the steps that give them."""

    items: list[JudgementRow]
    steps: list[MarkingStep]


class JudgementDetail(JudgementRow):
    """A judgement with all that came with it."""

    flow: str
    flow_version: int
    document: str = Field("", description="The hash of the file that was judged; nothing where it was a text or a record.")
    model: str = ""
    speaks_for: list[str] = []
    missing: list[str] = []
    to_ask: list[str] = []
    left_out: list[str] = []
    anchors: list[str] = []
    findings: list[FindingView] = []


class QuoteView(View):
    """What was said of a label, question, criterion or change, and the words of the document for it."""

    name: str
    said: str
    sure: float
    evidence: EvidenceView | None
    why: str


class JudgedStep(View):
    """What a step that judges gave in a run. `judgement`: with criteria, where it marked."""

    path: str
    outcome: str
    sure: float
    needs_person: bool
    stand_in: bool
    model: str
    by: str
    comment: str
    text: str
    document: str
    quotes: list[QuoteView]
    findings: list[FindingView]
    judgement: JudgementDetail | None = None


class Judged(View):
    """What the steps of a run have judged, in order."""

    item_id: str
    item_name: str
    flow: str
    items: list[JudgedStep]


class JudgementsQuery(View):
    step: str = Field("", max_length=40)
    q: str = Field("", max_length=200, description="Part of a file name or of a reason.")


class CorrectBody(Sent):
    """Marks set right."""

    marks: dict[str, int] = Field(..., min_length=1, max_length=30)
    comment: str = Field("", max_length=2000)


class JudgeAgainBody(Sent):
    """A set of judgements of a flow, and beside which anchors they are judged again."""

    step: str = Field("", max_length=40)
    label: str = Field("", max_length=60, description="Those with this label.")
    search: str = Field("", max_length=200, description="Those with this in their name or reasons.")
    most: int = Field(judged.MOST, ge=1, le=judged.MOST, description="At most so many, the best first.")
    renew: bool = Field(False, description="Beside anchors that are chosen anew, in place of those that stand.")
    anchors: int = Field(USUAL, ge=1, le=MOST, description="How many are chosen.")
    count: int | None = Field(None, ge=0, le=LARGEST, description="A yes: the count that was told. Without it, it is only told what this would take.")


class JudgeAgainView(View):
    """What judging again is and about what it takes; what models have answered before costs nothing again. `id`: once it has begun."""

    count: int
    requests: int
    tokens: int
    cost: str
    anchors: list[AnchorView]
    id: str = ""


class MoveView(View):
    """How one judgement stood and how it would stand; places are among all that were judged again."""

    id: str
    name: str
    total: int
    label: str
    place: int
    new_total: int | None
    new_label: str
    new_place: int | None
    moved: bool
    marks: list[tuple[str, int | None, int | None]]
    why: str
    problem: str


class RejudgingView(View):
    """What is judged again and what it came to so far. `state`: running, done, stopped or failed."""

    id: str
    flow: str
    step: str
    renewed: bool
    anchors: list[AnchorView]
    count: int
    done: int
    state: str
    problem: str
    taken: bool
    moves: list[MoveView]


def blueprint(app: App) -> Room:
    """Routes of judgements."""
    api = Room("judgements", __name__, abp_tags=[Tag(name="judgements")])

    @api.get("/api/flows/<string:name>/judgements", responses={200: JudgementList}, operation_id="listJudgements")
    def list_judgements(path: NamePath, query: JudgementsQuery) -> Response:
        """The newest judgement of each item of a flow, the best first."""
        steps = list(app.level.steps(path.name))
        current = {by.step: version_of(by.task) for by, _ in steps}
        with app.database.reading() as connection:
            rows = judged.listed(connection, path.name, query.step, query.q)
        told = [_step(by.step, frozen) for by, frozen in steps]
        return reply(JudgementList(items=[JudgementRow(**_row(each, current)) for each in rows], steps=told))

    @api.get("/api/judgements/<string:id>", responses={200: JudgementDetail}, operation_id="getJudgement")
    def get_judgement(path: IdPath) -> Response:
        """One judgement with all that came with it."""
        return reply(_detail(app, app.level.judgement(path.id)))

    @api.put("/api/judgements/<string:id>", responses={200: JudgementDetail}, operation_id="correctJudgement")
    def correct(path: IdPath, body: CorrectBody) -> Response:
        """Set marks right; total and label are worked out anew. What the flow did by them stays done."""
        return reply(_detail(app, app.level.correct(path.id, body.marks, str(g.person), body.comment)))

    @api.get("/api/runs/<string:id>/judged", responses={200: Judged}, operation_id="judgedInRun")
    def judged_in_run(path: IdPath) -> Response:
        """What the steps of a run have judged: labels, answers, marks, changes and texts, each with the words that it rests on."""
        with app.database.reading() as connection:
            run = runs.shown(connection, path.id)
            rows = {str(each["path"]): _detail(app, each) for each in judged.of_run(connection, path.id)}
        if run is None:
            raise Problem(404, "not-there", f"There is no run {path.id}.")
        found = judged_in(app.database, app.files, path.id)
        steps = [_judged(where, result, rows.get(where)) for where, result in found.items()]
        return reply(Judged(item_id=run["item_id"], item_name=run["item_name"], flow=run["flow"], items=steps))

    @api.post("/api/flows/<string:name>/judge-again", responses={200: JudgeAgainView}, operation_id="judgeAgain")
    def judge_again(path: NamePath, body: JudgeAgainBody) -> Response:
        """Judge a chosen set again by the newest criteria, to see who would move: first without a count, which tells how many and what it takes."""
        wanted = Chosen(path.name, body.step, body.label, body.search, body.most)
        plan = app.level.plan(wanted, renew=body.renew, anchors=body.anchors)
        begun = app.level.begin(wanted, body.count, str(g.person), renew=body.renew, anchors=body.anchors) if body.count is not None else ""
        tokens = plan.takes.input_tokens + plan.takes.output_tokens
        told = {"count": len(plan.rows), "requests": round(plan.takes.requests), "tokens": tokens, "cost": f"{plan.takes.cost:f}"}
        return reply(JudgeAgainView(**told, anchors=_anchors(plan.anchors), id=begun))

    @api.get("/api/rejudgings/<string:id>", responses={200: RejudgingView}, operation_id="getRejudging")
    def get_rejudging(path: IdPath) -> Response:
        """What is judged again, and who would move as far as it has come."""
        return reply(_rejudging(app, path.id))

    @api.post("/api/rejudgings/<string:id>/stop", responses={200: RejudgingView}, operation_id="stopRejudging")
    def stop_rejudging(path: IdPath) -> Response:
        """Stop after the document it is at; it can go on later."""
        app.level.rejudging(path.id)
        app.background.stop(path.id)
        return reply(_rejudging(app, path.id))

    @api.post("/api/rejudgings/<string:id>/continue", responses={200: RejudgingView}, operation_id="continueRejudging")
    def continue_rejudging(path: IdPath) -> Response:
        """Go on with what was stopped or failed; nothing is paid twice."""
        app.level.go_on(path.id)
        return reply(_rejudging(app, path.id))

    @api.post("/api/rejudgings/<string:id>/take", responses={200: RejudgingView}, operation_id="takeAnchors")
    def take_anchors(path: IdPath) -> Response:
        """Freeze the anchors that were chosen for it: what is judged from now on by these criteria is judged beside them."""
        app.level.take(path.id, str(g.person))
        return reply(_rejudging(app, path.id))

    return api


def _row(row: dict[str, Any], current: dict[str, str]) -> dict[str, Any]:
    result = row["result"]
    told = {
        name: row[name] for name in ("id", "item_id", "item_name", "run_id", "step", "path", "total", "at", "answered_by", "corrected_by", "comment")
    }
    by_person = bool(row["corrected_by"] or row["answered_by"])
    return {
        **told,
        "label": label_of(row),
        "sure": float(result["sure"]),
        "needs_person": bool(result["needs_person"]) and not by_person,
        "stand_in": bool(result["stand_in"]),
        "marks": result["marks"],
        "current": current.get(str(row["step"])) == row["criteria"],
    }


def _detail(app: App, row: dict[str, Any]) -> JudgementDetail:
    result, given = row["result"], row["given"].get("of")
    current = {by.step: version_of(by.task) for by, _ in app.level.steps(str(row["flow"]))}
    told = {name: result.get(name) or [] for name in ("speaks_for", "missing", "to_ask", "left_out", "anchors", "findings")}
    document = given.get("document") or "" if isinstance(given, dict) else ""
    scales = {each.name: [{"mark": mark.mark, "earns": mark.earns} for mark in each.scale] for each in _criteria(app, row)}
    marks = [{**each, "scale": scales.get(each["name"], [])} for each in result["marks"]]
    besides = {"flow": row["flow"], "flow_version": row["flow_version"], "document": document, "model": result.get("model", "")}
    return JudgementDetail(**{**_row(row, current), "marks": marks}, **besides, **told)


def _criteria(app: App, row: dict[str, Any]) -> tuple[Criterion, ...]:
    """The criteria by which it was judged; none where that version of the flow can no longer be read."""
    try:
        return marking.at(app.catalog, str(row["flow"]), int(row["flow_version"]), str(row["step"])).task.criteria
    except (NotThere, KeyError, BadFlow):
        return ()


def _judged(path: str, result: dict[str, Any], judgement: JudgementDetail | None) -> JudgedStep:
    told = {name: result.get(name) or "" for name in ("outcome", "model", "by", "comment", "text", "document")}
    found = [QuoteView(**msgspec.to_builtins(each)) for each in quotes(result)]
    needs = bool(result.get("needs_person")) and not told["by"]
    besides = {
        "sure": float(result.get("sure") or 0),
        "needs_person": needs,
        "stand_in": bool(result["stand_in"]),
        "findings": result.get("findings") or [],
    }
    return JudgedStep(path=path, quotes=found, judgement=judgement, **told, **besides)


def _anchors(anchors: tuple[Anchor, ...]) -> list[AnchorView]:
    return [
        AnchorView(id=each.id, total=each.total, corrected=each.corrected, marks={mark.name: mark.mark for mark in each.marks}) for each in anchors
    ]


def _step(name: str, frozen: dict[str, Any] | None) -> MarkingStep:
    if frozen is None:
        return MarkingStep(step=name, anchors=[])
    return MarkingStep(step=name, anchors=_anchors(frozen["anchors"]), since=frozen["at"], by=frozen["by"])


def _rejudging(app: App, rejudging_id: str) -> RejudgingView:
    row = app.level.rejudging(rejudging_id)
    told = {name: row[name] for name in ("id", "flow", "step", "renewed", "state", "problem")}
    moves = [MoveView(**msgspec.to_builtins(each)) for each in app.level.moves(row)]
    besides = {"count": len(row["judgements"]), "done": len(row["done"]), "taken": bool(row["taken_at"])}
    return RejudgingView(**told, **besides, anchors=_anchors(row["anchors"]), moves=moves)
