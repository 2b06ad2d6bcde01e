"""Record types: kept in versions, told what they mean, started from what there is."""

from __future__ import annotations

from flask import Response
from flask_openapi3 import Tag

from metrikon.app.assemble import App
from metrikon.core.extraction.planning.second import twice
from metrikon.core.records.meaning import concept_of
from metrikon.core.records.starting import from_heads, from_row
from metrikon.core.records.types import BadRecordType, record_type
from metrikon.core.values.exact import NotJson, dumps, loads
from metrikon.drivers.starting import started
from metrikon.service.asked import NamePath, StartBody
from metrikon.service.description import Room
from metrikon.service.known import no_type
from metrikon.service.model_views import FieldMeaning, MeaningView, StartView, TouchedFlow, TouchedView
from metrikon.service.problems import Problem
from metrikon.service.reply import reply
from metrikon.service.sent import kept_file, text_sent
from metrikon.service.views import (
    PutView,
    RecordTypeList,
    RecordTypeView,
)
from metrikon.store import flows


def blueprint(app: App) -> Room:
    """The routes."""
    api = Room("record-types", __name__, abp_tags=[Tag(name="record types")])

    @api.get("/api/record-types", responses={200: RecordTypeList}, operation_id="listRecordTypes")
    def list_types() -> Response:
        """Every record type in its newest version."""
        with app.database.reading() as connection:
            rows = flows.all_record_types(connection)
        return reply(RecordTypeList(items=[RecordTypeView(**row) for row in rows]))

    @api.put("/api/record-types/<string:name>", responses={200: PutView}, operation_id="putRecordType")
    def put_type(path: NamePath) -> Response:
        """Keep a record type. The body is its JSON Schema."""
        return reply(PutView(name=path.name, version=app.catalog.put_record_type(path.name, text_sent())))

    @api.get("/api/record-types/<string:name>/versions", responses={200: RecordTypeList}, operation_id="listRecordTypeVersions")
    def list_versions(path: NamePath) -> Response:
        """All versions of a record type, newest first."""
        with app.database.reading() as connection:
            rows = flows.type_versions(connection, path.name)
        if not rows:
            raise no_type(app, path.name)
        return reply(RecordTypeList(items=[RecordTypeView(**row) for row in rows]))

    @api.post("/api/record-types/<string:name>/touched", responses={200: TouchedView}, operation_id="touchedFlows")
    def touched(path: NamePath) -> Response:
        """The flows that a record type is used in. With a changed type as the body: what would be wrong with them; nothing is kept."""
        found = app.catalog.touched(path.name, text_sent() or None)
        return reply(TouchedView(flows=[TouchedFlow(flow=name, problems=[str(each) for each in problems]) for name, problems in found]))

    @api.post("/api/record-types-meaning", responses={200: MeaningView}, operation_id="meaningOfFields")
    def meaning_of_fields() -> Response:
        """What each field of a record type is taken for. The body is its JSON Schema; nothing is kept."""
        try:
            kind = record_type(loads(text_sent()))
        except (BadRecordType, NotJson) as error:
            raise Problem(422, "bad-record-type", str(error)) from error
        fields = [FieldMeaning(field=f.shape, manner=f.manner, kind=f.kind, meaning=concept_of(f), twice=twice(f)) for f in kind.fields]
        return reply(MeaningView(fields=fields))

    @api.post("/api/record-types-to-start", responses={200: StartView}, operation_id="startRecordType")
    def start_type(body: StartBody) -> Response:
        """A record type to begin with: from an example row, the heads of a sheet, or a file that came in. Nothing is kept."""
        if sum(each is not None for each in (body.row, body.heads, body.document)) != 1:
            raise Problem(422, "not-one", "Give exactly one of `row`, `heads` and `document`.")
        if body.row is not None:
            schema = from_row(body.row, body.title)
        elif body.heads is not None:
            schema = from_heads(body.heads, body.title)
        else:
            schema = started(app.workshop.read_document(kept_file(app, str(body.document))), body.title)
        return reply(StartView(text=dumps(schema).decode()))

    return api
