"""Items, their runs, and uploads."""

from __future__ import annotations

from typing import Any

from flask import Response, g, request
from flask_openapi3 import Tag

from metrikon.app.assemble import App
from metrikon.core.values.exact import loads
from metrikon.ports.intake import opened
from metrikon.service.asked import CancelBody, ContinueQuery, IdPath, ItemQuery, NamePath, RunQuery, UploadQuery
from metrikon.service.description import Room
from metrikon.service.known import known_flow
from metrikon.service.problems import Problem
from metrikon.service.reply import reply, states
from metrikon.service.sent_out import delivery_view
from metrikon.service.views import (
    ArrivedView,
    ContinueView,
    CorrectionView,
    EnteringView,
    EntryView,
    HeardView,
    ItemDetail,
    ItemPage,
    ItemView,
    RunDetail,
    RunPage,
    RunStarted,
    RunView,
    ThereNowList,
    ThereNowView,
)
from metrikon.store import deliveries, flows, items, journal, listing, records, runs

IDENTITY_HEADER = "Idempotency-Key"
LONGEST_IDENTITY = 160  # characters: places within an archive are added to it


def blueprint(app: App) -> Room:
    """Routes of items and runs."""
    api = Room("items", __name__, abp_tags=[Tag(name="items and runs")])

    @api.post("/api/flows/<string:name>/items", responses={201: ArrivedView, 200: ArrivedView}, operation_id="uploadItem")
    def upload(path: NamePath, query: UploadQuery) -> Response:
        """Send a file: the body is its bytes, or a form with one `file`.

        The same Idempotency-Key (at most 160 characters) with the same file gets the same answer; with another file it is refused (409).
        """
        data, name = _uploaded(query.name)
        identity = _identity()
        if _opened(app, path.name):
            first, *others = app.arrivals.take_opened(path.name, "upload", identity, name, data)
        else:
            first, others = app.arrivals.take(path.name, "upload", identity, name, data), []
        view = ArrivedView(**vars(first), others=[ArrivedView(**vars(each)) for each in others])
        return reply(view, 200 if first.known else 201)

    @api.get("/api/items", responses={200: ItemPage}, operation_id="listItems")
    def list_items(query: ItemQuery) -> Response:
        """Items, newest first, each with its latest run."""
        if query.flow:
            known_flow(app, query.flow)
        with app.database.reading() as connection:
            page = listing.item_page(
                connection, flow=query.flow, states=states(query.state), search=query.q, since=query.since, cursor=query.cursor, most=query.limit
            )
        return reply(ItemPage(items=[ItemView(**row) for row in page.rows], next=page.following))

    @api.get("/api/items/<string:id>", responses={200: ItemDetail}, operation_id="getItem")
    def get_item(path: IdPath) -> Response:
        """An item with all its runs, newest first."""
        with app.database.reading() as connection:
            item = items.whole(connection, path.id)
            found = listing.run_page(connection, item_id=path.id, most=200).rows
        if item is None:
            raise Problem(404, "not-there", f"There is no item {path.id}.")
        data = loads(item["data"]) if item["data"] is not None else None
        shown = {name: value for name, value in item.items() if name not in ("identity", "data", "body")}
        return reply(ItemDetail(**shown, data=data, runs=[RunView(**row) for row in found]))

    @api.get("/api/runs", responses={200: RunPage}, operation_id="listRuns")
    def list_runs(query: RunQuery) -> Response:
        """Runs, newest first."""
        if query.flow:
            known_flow(app, query.flow)
        with app.database.reading() as connection:
            page = listing.run_page(
                connection, flow=query.flow, states=states(query.state), item_id=query.item, cursor=query.cursor, most=query.limit
            )
        return reply(RunPage(items=[RunView(**row) for row in page.rows], next=page.following))

    @api.get("/api/runs/<string:id>", responses={200: RunDetail}, operation_id="getRun")
    def get_run(path: IdPath) -> Response:
        """A run with its journal."""
        return _run(path.id)

    @api.post("/api/runs/<string:id>/move", responses={201: RunStarted}, operation_id="moveRun")
    def move_run(path: IdPath) -> Response:
        """Let a parked run go on as a new one on the newest version of its flow: results of steps that are the same are taken over."""
        return reply(RunStarted(run_id=app.moving.move(path.id, str(g.person))), 201)

    @api.post("/api/runs/<string:id>/continue", responses={200: ContinueView}, operation_id="continueRun")
    def continue_run(path: IdPath, query: ContinueQuery) -> Response:
        """Continue a parked run from the step that failed, or run a held one anyway."""
        app.answers.continue_run(path.id, str(g.person), leave=query.leave, unsure=query.unsure, otherwise=query.otherwise, looked=query.looked)
        return reply(ContinueView(continued=1))

    @api.get("/api/runs/<string:id>/there-now", responses={200: ThereNowList}, operation_id="getThereNow")
    def get_there_now(path: IdPath) -> Response:
        """What is there now of the rows of a run that may have been written: looked for where they were to go."""
        found = app.looking_there.of(path.id)
        each = [
            ThereNowView(to=one.to, sent=dict(one.sent), found=[dict(row) for row in one.found] if one.found is not None else None, why=one.why)
            for one in found
        ]
        return reply(ThereNowList(items=each))

    @api.post("/api/runs/<string:id>/cancel", responses={200: RunDetail}, operation_id="cancelRun")
    def cancel_run(path: IdPath, body: CancelBody) -> Response:
        """End a run where it stands: what it has written stays, nothing more of it is done."""
        app.answers.cancel(path.id, str(g.person), body.comment)
        return _run(path.id)

    @api.post("/api/runs/continue", responses={200: ContinueView}, operation_id="continueParked")
    def continue_parked() -> Response:
        """Continue every parked run."""
        return reply(ContinueView(continued=app.answers.continue_parked(str(g.person))))

    def _run(run_id: str) -> Response:
        with app.database.reading() as connection:
            row = runs.shown(connection, run_id)
            entries = journal.shown(connection, run_id)
            sent = [delivery_view(each) for each in deliveries.of_run(connection, run_id)]
            record = next((id_ for id_, _ in records.of_run(connection, run_id, 1)), None)
        if row is None:
            raise Problem(404, "not-there", f"There is no run {run_id}.")
        told = [CorrectionView(**each) for entry in entries[:1] for each in entry["data"].get("corrections", ())]
        journaled = [EntryView(**entry) for entry in entries]
        return reply(
            RunDetail(
                **row,
                journal=journaled,
                deliveries=sent,
                corrections=told,
                record_id=record,
                heard=_heard(app, row),
                entering=_entering(app, run_id),
            )
        )

    def _identity() -> str | None:
        given = request.headers.get(IDENTITY_HEADER, "").strip()
        if len(given) > LONGEST_IDENTITY:
            raise Problem(422, "key-too-long", f"The {IDENTITY_HEADER} has {len(given)} characters; at most {LONGEST_IDENTITY} are taken.")
        return given or None

    def _uploaded(called: str) -> tuple[bytes, str]:
        if request.content_type and request.content_type.startswith("multipart/form-data"):
            sent = request.files.get("file")
            if sent is None:
                raise Problem(422, "no-file", "The form has no part named `file`.")
            data, name = sent.read(), sent.filename or "unnamed"
        else:
            data, name = request.get_data(cache=False), called or "unnamed"
        if len(data) > app.settings.max_bytes:
            size = f"{len(data) / 1e6:.1f} MB; the limit is {app.settings.max_bytes / 1e6:.1f} MB"
            raise Problem(413, "too-large", f"The file has {size} (setting max_bytes).")
        return data, name

    return api


def _heard(app: App, run: dict[str, Any]) -> HeardView | None:
    """How far the recording of a run is, when it is one, and is not heard to its end."""
    if run["state"] in runs.SETTLED or app.transcriber is None:
        return None
    far = app.transcriber.so_far(run["sha256"])
    return HeardView(**vars(far)) if far is not None else None


def _entering(app: App, run_id: str) -> EnteringView | None:
    """How far a run is with what it enters into a program just now."""
    far = app.ways.far(run_id)
    return EnteringView(**vars(far)) if far is not None else None


def _opened(app: App, name: str) -> bool:
    """Whether uploads of a flow are opened into the files that they hold."""
    with app.database.reading() as connection:
        found = flows.standing(connection, name)
    if found is None:
        return False  # taking it in says what is wrong
    return any(intake.kind == "upload" and opened(intake.form) for intake in app.catalog.flow(name, found[0]).intakes)
