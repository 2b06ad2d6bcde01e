"""Records corrected after they were written, and what runs have sent out taken back: both told first, and done with a yes."""

from __future__ import annotations

from typing import Any

from flask import Response, g
from flask_openapi3 import Tag
from pydantic import Field

from metrikon.app.assemble import App
from metrikon.engine.taking_back import Back
from metrikon.service.asked import LARGEST, IdPath, NamePath
from metrikon.service.description import Room
from metrikon.service.known import known_flow
from metrikon.service.problems import Problem
from metrikon.service.reader import decimal_mark
from metrikon.service.reply import reply
from metrikon.service.sent_out import delivery_view
from metrikon.service.sent_views import DeliveryView, Sent, View


class CorrectRecordBody(Sent):
    values: dict[str, Any] = Field(..., description="The record with all its values, corrected.")
    comment: str = Field("", max_length=2000, description="Why; kept with the record.")
    yes: bool = Field(False, description="Whether it is done. Without it, it is only told what would be changed.")


class CameView(View):
    """Something that came of the record, and what becomes of it."""

    delivery: DeliveryView
    will: str = Field(..., description="set: it is set where it differs; ask: a person is asked, since it cannot be set from here.")


class CorrectedView(View):
    values: dict[str, Any] = Field(..., description="The record as it is read and checked.")
    came: list[CameView] = Field(..., description="What came of the record, of all runs of its item.")
    run_id: str = Field(..., description="The run that puts right what came of it; empty where it was only told, or nothing came of it.")


class TakeBackBody(Sent):
    yes: bool = Field(False, description="Whether it is done. Without it, it is only told what would be taken back.")


class TakeBackVersionBody(Sent):
    version: int = Field(..., ge=1, le=LARGEST, description="The version of the flow whose runs are taken back.")
    count: int | None = Field(
        None, ge=0, le=LARGEST, description="A yes: how many runs were told. Without it, it is only told what would be taken back."
    )


class BackView(View):
    """Something that a run has sent out, and why it stays; empty where it is taken back."""

    delivery: DeliveryView
    stays: str


class TakenBackView(View):
    runs: int = Field(..., description="How many runs.")
    items: list[BackView]
    done: bool = Field(..., description="Whether it was begun; what becomes of each thing stands at its run.")


def blueprint(app: App) -> Room:
    """The routes."""
    api = Room("corrections", __name__, abp_tags=[Tag(name="records")])

    @api.post("/api/records/<string:id>/correct", responses={200: CorrectedView}, operation_id="correctRecord")
    def correct(path: IdPath, body: CorrectRecordBody) -> Response:
        """Correct a record after it was written: it changes, and a new run sets what came of it right, or asks where it cannot be set."""
        if body.yes:
            found = app.correcting.correct(path.id, body.values, str(g.person), body.comment, decimal_mark())
        else:
            found = app.correcting.look(path.id, body.values, decimal_mark())
        came = [CameView(delivery=delivery_view(each.delivery), will=each.will) for each in found.came]
        return reply(CorrectedView(values=dict(found.values), came=came, run_id=found.run_id))

    @api.post("/api/runs/<string:id>/take-back", responses={200: TakenBackView}, operation_id="takeBackRun")
    def take_back(path: IdPath, body: TakeBackBody) -> Response:
        """Take back what a run has sent out: rows are removed, or hold again what stood there. What was changed since, and what cannot be taken back, stays."""
        found = app.taking_back.take_back([path.id], str(g.person)) if body.yes else app.taking_back.look([path.id])
        return reply(TakenBackView(runs=1, items=_shown(found), done=body.yes))

    @api.post("/api/flows/<string:name>/take-back", responses={200: TakenBackView}, operation_id="takeBackVersion")
    def take_back_version(path: NamePath, body: TakeBackVersionBody) -> Response:
        """The same for all settled runs of a version of a flow."""
        known_flow(app, path.name)
        run_ids = app.taking_back.of_version(path.name, body.version)
        if body.count is not None and body.count != len(run_ids):
            raise Problem(409, "not-now", f"There are {len(run_ids)} such runs now, and not {body.count}. Look again, then say yes.")
        found = app.taking_back.take_back(run_ids, str(g.person)) if body.count is not None else app.taking_back.look(run_ids)
        return reply(TakenBackView(runs=len(run_ids), items=_shown(found), done=body.count is not None))

    return api


def _shown(found: list[Back]) -> list[BackView]:
    return [BackView(delivery=delivery_view(each.delivery), stays=each.stays) for each in found]
