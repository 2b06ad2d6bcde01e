"""Everything else: today, documents, flows, record types, tokens, changes, health."""

from __future__ import annotations

from datetime import UTC, datetime
from decimal import Decimal
from typing import Any

from flask import Response, request
from flask_openapi3 import APIBlueprint, Tag
from sqlalchemy import text as sql_text

from metrikon import __version__
from metrikon.app.assemble import App
from metrikon.core.extraction.second import twice
from metrikon.core.records.meaning import concept_of
from metrikon.core.records.starting import from_document, from_heads, from_row
from metrikon.core.records.types import BadRecordType, record_type
from metrikon.core.values.exact import NotJson, dumps, loads
from metrikon.service.asked import ChangesQuery, HashPath, IdPath, NamePath, PagePath, PasswordsBody, PictureQuery, StartBody, SwitchBody, TokenBody
from metrikon.service.auth import add_token
from metrikon.service.model_views import FieldMeaning, MeaningView, StartView, TouchedFlow, TouchedView
from metrikon.service.problems import Problem
from metrikon.service.reply import reply
from metrikon.service.views import (
    ChangesView,
    ChangeView,
    DocumentView,
    FactView,
    FlowList,
    FlowToday,
    FlowView,
    HealthView,
    HiddenView,
    PageView,
    PartView,
    PasswordsView,
    PutView,
    RecordTypeList,
    RecordTypeView,
    Spend,
    TodayView,
    TokenList,
    TokenMade,
    TokenView,
    WaitingView,
    WordView,
)
from metrikon.store import changes, flows, listing, people

SIZES = (20, 110, 160)  # dots an inch at which page pictures are drawn
LARGEST_TEXT = 600_000  # bytes of a flow or record type


def blueprint(app: App) -> APIBlueprint:
    """Routes of the house."""
    api = APIBlueprint("house", __name__, abp_tags=[Tag(name="house")])

    @api.get("/api/today", responses={200: TodayView}, operation_id="today")
    def today() -> Response:
        """What needs a person, what came in today and what became of it, and what it cost."""
        now = datetime.fromtimestamp(app.clock.now() / 1000, UTC).astimezone()
        midnight = int(now.replace(hour=0, minute=0, second=0, microsecond=0).timestamp() * 1000)
        with app.database.reading() as connection:
            waits = listing.waiting(connection)
            counts = listing.counts_since(connection, midnight)
            spent = listing.spending_since(connection, midnight)
            empty = not listing.item_page(connection, most=1).rows
            names = [row["name"] for row in flows.all_flows(connection)]
        spend = Spend(
            cost=f"{sum((Decimal(cost) for cost, *_ in spent), Decimal(0)):f}",
            currency=app.settings.price_currency,
            calls=sum(row[1] for row in spent),
            input_tokens=sum(row[2] for row in spent),
            output_tokens=sum(row[3] for row in spent),
            limit=f"{app.settings.spend_day.normalize():f}",
        )
        view = TodayView(
            waiting=[_waiting(row) for row in waits],
            flows=[_flow_today(name, counts) for name in names],
            spend=spend,
            problems=[each["message"] for each in app.problems()],
            model=app.default_model,
            empty=empty,
        )
        return reply(view)

    @api.get("/api/documents/<string:sha256>", responses={200: DocumentView}, operation_id="getDocument")
    def document(path: HashPath) -> Response:
        """A document with the words and boxes of its pages."""
        found = app.workshop.read_document(_kept(app, path.sha256))
        pages = [
            PageView(
                number=p.number,
                width=p.width,
                height=p.height,
                source=p.source,
                part=p.part,
                words=[WordView(text=w.text, box=w.box) for w in p.words],
            )
            for p in found.pages
        ]
        view = DocumentView(
            sha256=found.sha256,
            format=found.format,
            why=found.why,
            pages=pages,
            warnings=list(found.warnings),
            facts=[FactView(name=f.name, value=f.value, source=f.source, path=f.path, term=f.term) for f in found.facts[:500]],
            hidden=[HiddenView(text=each.text, why=each.why, page=each.page) for each in found.hidden[:100]],
            parts=[PartView(name=each.name, file=each.sha256, size=each.size, role=each.role) for each in found.parts],
        )
        return reply(view)

    @api.get(
        "/api/documents/<string:sha256>/pages/<int:page>/picture",
        responses={200: {"content": {"image/png": {}, "image/svg+xml": {}}}},
        operation_id="getPagePicture",
    )
    def page_picture(path: PagePath, query: PictureQuery) -> Response:
        """The picture of a page, drawn when first asked for: PNG, or SVG for what has no pages of its own."""
        sha256 = _kept(app, path.sha256)
        found = app.workshop.read_document(sha256)
        if path.page > len(found.pages):
            raise Problem(404, "no-page", f"The document has {len(found.pages)} pages.")
        data, media = app.workshop.page_picture(found, path.page, min(SIZES, key=lambda size: abs(size - query.dots)))
        return Response(data, content_type=media, headers={"Cache-Control": "private, max-age=86400, immutable"})

    @api.get("/api/files/<string:sha256>", responses={200: {"content": {"application/octet-stream": {}}}}, operation_id="getFile")
    def file(path: HashPath) -> Response:
        """The bytes as they came in; offered for saving, never shown in place."""
        data = app.files.get(_kept(app, path.sha256))
        return Response(data, content_type="application/octet-stream", headers={"Content-Disposition": "attachment"})

    @api.get("/api/flows", responses={200: FlowList}, operation_id="listFlows")
    def list_flows() -> Response:
        """Every flow in its newest version."""
        with app.database.reading() as connection:
            rows = flows.all_flows(connection)
        return reply(FlowList(items=[_flow(app, row) for row in rows]))

    @api.put("/api/flows/<string:name>", responses={200: PutView}, operation_id="putFlow")
    def put_flow(path: NamePath) -> Response:
        """Keep a flow. The body is its YAML; it is verified first, and all that is wrong is told at once."""
        text = _text()
        flow = app.catalog.checked_flow(text)
        if flow.name != path.name:
            raise Problem(422, "other-name", f"The flow names itself {flow.name!r}, but was put as {path.name!r}. Make them the same.")
        name, version = app.catalog.put_flow(text)
        return reply(PutView(name=name, version=version))

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

    @api.get("/api/record-types", responses={200: RecordTypeList}, operation_id="listRecordTypes")
    def list_types() -> Response:
        """Every record type in its newest version."""
        with app.database.reading() as connection:
            rows = flows.all_record_types(connection)
        return reply(RecordTypeList(items=[RecordTypeView(**row) for row in rows]))

    @api.put("/api/record-types/<string:name>", responses={200: PutView}, operation_id="putRecordType")
    def put_type(path: NamePath) -> Response:
        """Keep a record type. The body is its JSON Schema."""
        return reply(PutView(name=path.name, version=app.catalog.put_record_type(path.name, _text())))

    @api.get("/api/record-types/<string:name>/versions", responses={200: RecordTypeList}, operation_id="listRecordTypeVersions")
    def list_versions(path: NamePath) -> Response:
        """All versions of a record type, newest first."""
        with app.database.reading() as connection:
            rows = flows.type_versions(connection, path.name)
        if not rows:
            raise Problem(404, "not-there", f"There is no record type {path.name!r}.")
        return reply(RecordTypeList(items=[RecordTypeView(**row) for row in rows]))

    @api.post("/api/record-types/<string:name>/touched", responses={200: TouchedView}, operation_id="touchedFlows")
    def touched(path: NamePath) -> Response:
        """The flows that a record type is used in. With a changed type as the body: what would be wrong with them; nothing is kept."""
        found = app.catalog.touched(path.name, _text() or None)
        return reply(TouchedView(flows=[TouchedFlow(flow=name, problems=[str(each) for each in problems]) for name, problems in found]))

    @api.post("/api/record-types-meaning", responses={200: MeaningView}, operation_id="meaningOfFields")
    def meaning_of_fields() -> Response:
        """What each field of a record type is taken for. The body is its JSON Schema; nothing is kept."""
        try:
            kind = record_type(loads(_text()))
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
            schema = from_document(app.workshop.read_document(_kept(app, str(body.document))), body.title)
        return reply(StartView(text=dumps(schema).decode()))

    @api.get("/api/tokens", responses={200: TokenList}, operation_id="listTokens")
    def list_tokens() -> Response:
        """Tokens, without their secrets."""
        with app.database.reading() as connection:
            rows: list[dict[str, Any]] = people.all_tokens(connection)
        return reply(TokenList(items=[TokenView(**row) for row in rows]))

    @api.post("/api/tokens", responses={201: TokenMade}, operation_id="addToken")
    def make_token(body: TokenBody) -> Response:
        """Make a token. Its secret is in this answer and nowhere else."""
        token_id, secret = add_token(app, body.name)
        return reply(TokenMade(id=token_id, name=body.name, created_at=app.clock.now(), secret=secret), 201)

    @api.delete("/api/tokens/<string:id>", responses={204: None}, operation_id="dropToken")
    def drop_token(path: IdPath) -> Response:
        """Forget a token: it opens nothing any more."""
        if not app.database.write(lambda connection: people.drop_token(connection, path.id)):
            raise Problem(404, "not-there", f"There is no token {path.id}.")
        return Response(status=204)

    @api.get("/api/changes", responses={200: ChangesView}, operation_id="changes")
    def get_changes(query: ChangesQuery) -> Response:
        """What changed after a number. Ask again with `last`; `gap` says that some changes are gone and all must be loaded anew."""
        with app.database.reading() as connection:
            if query.after < 0:
                return reply(ChangesView(last=changes.latest(connection), gap=False, changes=[]))
            found = changes.after(connection, query.after)
        return reply(ChangesView(last=found["last"], gap=found["gap"], changes=[ChangeView(**row) for row in found["changes"]]))

    @api.get("/health", responses={200: HealthView}, operation_id="health")
    def health() -> Response:
        """The process is up."""
        return reply(HealthView(status="up", version=__version__))

    @api.get("/ready", responses={200: HealthView, 503: HealthView}, operation_id="ready")
    def ready() -> Response:
        """It can take items in and work on them."""
        problems = []
        try:
            app.database.write(lambda connection: connection.execute(sql_text("SELECT 1")).scalar())
        except Exception as error:
            problems.append(f"The database does not take changes: {error}")
        if app.engine.stopping:
            problems.append("The service is stopping.")
        return reply(HealthView(status="not ready" if problems else "ready", version=__version__, problems=problems), 503 if problems else 200)

    return api


def _kept(app: App, sha256: str) -> str:
    if not app.files.path(sha256).exists():
        raise Problem(404, "not-there", "There is no such file here.")
    return sha256


def _text() -> str:
    data = request.get_data(cache=False)
    if len(data) > LARGEST_TEXT:
        raise Problem(413, "too-large", f"The text has {len(data)} bytes; at most {LARGEST_TEXT} are taken.")
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError as error:
        raise Problem(422, "not-utf-8", "The text is not UTF-8.") from error


def _flow(app: App, row: dict[str, Any]) -> FlowView:
    return FlowView(**row, about=app.catalog.flow(row["name"], row["version"]).about.strip())


def _waiting(row: dict[str, Any]) -> WaitingView:
    first = next((each["message"] for each in row["findings"] if each["level"] == "stop"), row["reason"])
    return WaitingView(
        run_id=row["id"],
        item_id=row["item_id"],
        item_name=row["item_name"],
        flow=row["flow"],
        state=row["state"],
        since=row["changed_at"],
        record_id=row["record_id"],
        title=row["title"],
        message=first,
    )


def _flow_today(name: str, counts: list[dict[str, Any]]) -> FlowToday:
    own = {row["state"]: row["count"] for row in counts if row["flow"] == name}
    return FlowToday(
        flow=name,
        came=sum(own.values()),
        written=own.get("done", 0),
        waits=own.get("review", 0) + own.get("held", 0),
        parked=own.get("parked", 0),
        refused=own.get("refused", 0),
        stopped=own.get("stopped", 0),
        working=own.get("ready", 0) + own.get("running", 0) + own.get("waiting", 0),
    )
