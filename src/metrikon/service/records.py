"""Records: listed, shown with their evidence, checked, approved, refused, exported."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from decimal import Decimal
from typing import Any

from flask import Response, g
from flask_openapi3 import Tag

from metrikon.app.assemble import App
from metrikon.core.records import evidence as evidences
from metrikon.core.records import findings as all_findings
from metrikon.core.records.pointers import get
from metrikon.core.records.types import RecordType
from metrikon.service.asked import ApproveBody, CheckBody, CsvQuery, IdPath, RecordQuery, RefuseBody
from metrikon.service.description import Room
from metrikon.service.known import known_type, no_type
from metrikon.service.problems import Problem
from metrikon.service.reader import decimal_mark
from metrikon.service.reply import attachment, reply, states
from metrikon.service.sent_out import delivery_view
from metrikon.service.sent_views import RecordBeforeView
from metrikon.service.views import CheckView, FieldView, RecordDetail, RecordPage, RecordRow
from metrikon.store import deliveries, items, listing, records
from metrikon.store.records import STATES as RECORD_STATES


def blueprint(app: App) -> Room:
    """Routes of records."""
    api = Room("records", __name__, abp_tags=[Tag(name="records")])

    @api.get("/api/records", responses={200: RecordPage}, operation_id="listRecords")
    def list_records(query: RecordQuery) -> Response:
        """Records, page by page."""
        if query.record_type:
            known_type(app, query.record_type)
        with app.database.reading() as connection:
            page = listing.record_page(
                connection,
                record_type=query.record_type,
                states=states(query.state, RECORD_STATES),
                search=query.q,
                sort=query.sort,
                cursor=query.cursor,
                most=query.limit,
            )
        return reply(RecordPage(items=[RecordRow(**row) for row in page.rows], next=page.following))

    @api.get("/api/records.csv", responses={200: {"content": {"text/csv": {"schema": {"type": "string"}}}}}, operation_id="exportRecords")
    def export(query: CsvQuery) -> Response:
        """All records of a type as CSV (RFC 4180), one line a row of their list, header fields repeated."""
        kind, _ = _kind(app, query.record_type)
        return Response(_csv(app, kind, query), content_type="text/csv; charset=utf-8", headers=attachment(f"{query.record_type}.csv"))

    @api.get("/api/records/<string:id>", responses={200: RecordDetail}, operation_id="getRecord")
    def get_record(path: IdPath) -> Response:
        """A record with the evidence of every value."""
        return _shown(path.id)

    def _shown(record_id: str) -> Response:
        with app.database.reading() as connection:
            row = records.get(connection, record_id)
            if row is None:
                raise Problem(404, "not-there", f"There is no record {record_id}.")
            name = items.get(connection, row["item_id"])["name"]
            sent = deliveries.of_item(connection, row["item_id"])
            before = [RecordBeforeView(**vars(each)) for each in records.versions(connection, record_id)]
            following = records.next_waiting(connection, record_id)
        kind, _ = app.catalog.record_type(row["record_type"], row["type_version"])
        fields = [_field(each) for each in kind.fields]
        came = [delivery_view(each) for each in sent if each.purpose != "look" or each.state == "otherwise"]
        return reply(RecordDetail(**row, item_name=name, fields=fields, deliveries=came, before=before, next_waiting=following))

    @api.post("/api/records/<string:id>/check", responses={200: CheckView}, operation_id="checkRecord")
    def check(path: IdPath, body: CheckBody) -> Response:
        """What the checks would say with these values; nothing is kept."""
        reading = app.answers.check(path.id, body.values, decimal_mark())
        found = all_findings.as_json(reading.findings)
        view = {"values": reading.record, "evidence": evidences.as_json(reading.evidence), "findings": found}
        return reply(CheckView.model_validate(view))

    @api.post("/api/records/<string:id>/approve", responses={200: RecordDetail}, operation_id="approveRecord")
    def approve(path: IdPath, body: ApproveBody) -> Response:
        """Approve a record, corrected if values are given; its run goes on."""
        app.answers.approve(path.id, body.values, str(g.person), body.comment, decimal_mark())
        return _shown(path.id)

    @api.post("/api/records/<string:id>/refuse", responses={200: RecordDetail}, operation_id="refuseRecord")
    def refuse(path: IdPath, body: RefuseBody) -> Response:
        """Refuse a record with a reason; nothing of it is written."""
        app.answers.refuse(path.id, str(g.person), body.comment)
        return _shown(path.id)

    return api


def _kind(app: App, name: str) -> tuple[RecordType, int]:
    try:
        return app.catalog.record_type(name)
    except KeyError as error:
        raise no_type(app, name) from error


def _field(each: Any) -> FieldView:
    return FieldView(
        shape=each.shape,
        name=each.name,
        title=each.title,
        kind=each.kind,
        required=each.required,
        description=str(each.schema.get("description", "")),
        options=[str(option) for option in each.schema.get("enum", ())],
    )


def _csv(app: App, kind: RecordType, query: CsvQuery) -> Iterator[str]:
    """The lines of the export; values that a spreadsheet would take for a formula get an apostrophe before them."""
    header = [each for each in kind.header if each.shape.count("/") == 1]
    pointer = next(iter(kind.lists), "")
    rows = [each for each in kind.fields if pointer and each.shape.startswith(f"{pointer}/*/")]
    names = ["record", "state", "file", *(each.name for each in header), *(f"{pointer[1:]}.{each.name}" for each in rows)]
    yield _line(names)
    cursor = ""
    while True:
        with app.database.reading() as connection:
            page = listing.record_page(
                connection, record_type=kind.name, states=states(query.state, RECORD_STATES), search=query.q, sort="id", cursor=cursor, most=200
            )
        for row in page.rows:
            first = [row["id"], row["state"], row["item_name"], *(get(row["values"], each.shape) for each in header)]
            for part in (get(row["values"], pointer) if pointer else None) or [{}]:
                yield _line([*first, *(part.get(each.name) for each in rows)])
        if page.following is None:
            return
        cursor = page.following


def _line(values: list[Any]) -> str:
    out = io.StringIO()
    csv.writer(out).writerow([_cell(value) for value in values])
    return out.getvalue()


def _cell(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, Decimal):
        return f"{value:f}"
    text = str(value)
    return f"'{text}" if isinstance(value, str) and text[:1] in "=+-@\t\r" else text
