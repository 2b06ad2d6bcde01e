"""Intakes of flows: what they would take and cost, a yes where one is wanted, what was let go and why, one chosen thing."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from flask import Response, g
from flask_openapi3 import Tag
from pydantic import Field

from metrikon.app.assemble import App
from metrikon.core.flows.model import Flow, Said
from metrikon.core.values.exact import loads
from metrikon.engine.foreseeing import Would
from metrikon.ports.intake import IntakeFailed, Thing
from metrikon.service.asked import NamePath
from metrikon.service.description import Room
from metrikon.service.problems import Problem
from metrikon.service.reply import reply
from metrikon.service.roles import may
from metrikon.service.sent_views import Sent, View
from metrikon.service.views import ArrivedView
from metrikon.store import flows, intakes


class IntakePath(NamePath):
    intake: str = Field(..., max_length=40)


class PreviewQuery(View):
    listed: int = Field(50, ge=0, le=500, description="Things that are listed, the newest.")


class WaitsView(View):
    """What an intake would take: things, how many items they would become, bytes, and from what to what it would cost, told from `read` of them; `unknown` says why that cannot be told."""

    count: int
    makes: int = Field(0, description="How many items these things would become: each attachment, where attachments are taken.")
    size: int
    low: str
    high: str
    read: int
    unknown: str


class IntakeView(View):
    """An intake of a flow. `waits`: it takes nothing until a person says yes. `address`: where things are sent to it. `taken`: since it was last changed."""

    name: str
    kind: str
    tells: str
    place: str
    looked_at: bool = Field(..., description="Whether it is looked at; else things are sent to it.")
    sent: bool = Field(False, description="Whether it has an address of its own that things are sent to.")
    proved: bool = Field(False, description="Whether who sends to it proves it by a secret.")
    waits: WaitsView | None = None
    taken: int = 0
    most: int | None = None
    let_go: int = 0
    told: str = ""
    failing_since: int | None = None
    address: str = ""


class IntakeList(View):
    items: list[IntakeView]


class ThingView(View):
    """Something that an intake holds. `why`: why it is not taken; empty when it would be."""

    identity: str
    name: str
    at: int
    size: int
    why: str


class PreviewView(WaitsView):
    """What an intake would take now, newest first."""

    items: list[ThingView]
    taken: int = Field(..., description="Things that were taken already.")
    early: int = Field(..., description="Things from before the day from which on it takes.")
    beyond: int = Field(..., description="Things that it leaves, since it takes no more than so many.")
    let_go: dict[str, int] = Field(..., description="How many would be let go, by reason.")
    currency: str


class ToldView(View):
    told: str


class AddressBody(Sent):
    secret: str | None = Field(None, min_length=8, max_length=500, description="The secret that the sender has; one is made without it.")
    fresh: bool = Field(False, description="Whether the address changes as well, so that nothing comes by the one before.")


class AddressView(View):
    """Where things are sent to an intake, and the secret that proves who sent them, told this once; empty where nobody has to."""

    address: str
    secret: str


class LetGoView(View):
    identity: str
    name: str
    came_at: int
    at: int
    why: str


class LetGoList(View):
    items: list[LetGoView]
    count: int = Field(..., description="How many were let go in all; the latest are listed.")


class TakeBody(Sent):
    name: str = Field(..., min_length=1, max_length=400, description="Its identity, or its name.")
    intake: str = Field("", max_length=40, description="The intake; any that holds it without one.")


class ArrivedList(View):
    items: list[ArrivedView]


def blueprint(app: App) -> Room:
    """The routes."""
    api = Room("intakes", __name__, abp_tags=[Tag(name="intakes")])

    @api.get("/api/flows/<string:name>/intakes", responses={200: IntakeList}, operation_id="listIntakes")
    def list_intakes(path: NamePath) -> Response:
        """The intakes of a flow, with where each stands."""
        flow = _flow(app, path.name)
        return reply(IntakeList(items=[_view(app, flow, said) for said in flow.intakes]))

    @api.get("/api/flows/<string:name>/intakes/<string:intake>/preview", responses={200: PreviewView}, operation_id="previewIntake")
    def preview(path: IntakePath, query: PreviewQuery) -> Response:
        """What an intake would take now, and what that would cost; nothing is taken. The cost is told from some that are read."""
        flow, said = _said(app, path)
        with _told():
            return reply(_preview(app.watching.would(flow, said, query.listed), app.settings.price_currency))

    @api.post("/api/flows/<string:name>/intakes/<string:intake>/test", responses={200: ToldView}, operation_id="testIntake")
    def test_intake(path: IntakePath) -> Response:
        """Make a real look at an intake that changes nothing, and say what it found."""
        flow, said = _said(app, path)
        with _told():
            return reply(ToldView(told=app.watching.test(flow, said)))

    @api.post("/api/flows/<string:name>/intakes/<string:intake>/yes", responses={200: IntakeView}, operation_id="agreeToIntake")
    def say_yes(path: IntakePath) -> Response:
        """Let an intake take what is there."""
        flow, said = _said(app, path)
        if said.name in app.watching.looked_at(flow):
            app.watching.agree(flow, said)
        return reply(_view(app, flow, said))

    @api.post("/api/flows/<string:name>/intakes/<string:intake>/address", responses={201: AddressView}, operation_id="makeAddress")
    def make_address(path: IntakePath, body: AddressBody) -> Response:
        """Give an intake that things are sent to an address, and a new secret; that before is worth nothing from then on."""
        flow, said = _said(app, path)
        if not app.kinds.intakes[said.kind].sent:
            raise Problem(
                409, "not-sent", f"The intake {said.name} has no address of its own: {app.kinds.intakes[said.kind].tell(said.form)} come in by it."
            )
        address, secret = app.addresses.make(flow, said, body.secret or "", fresh=body.fresh)
        return reply(AddressView(address=_whole(app, said.kind, address), secret=secret if app.kinds.intakes[said.kind].proved else ""), 201)

    @api.get("/api/flows/<string:name>/intakes/<string:intake>/let-go", responses={200: LetGoList}, operation_id="listLetGo")
    def list_let_go(path: IntakePath) -> Response:
        """What an intake did not take, the latest, each with the reason."""
        flow, said = _said(app, path)
        with app.database.reading() as connection:
            rows = intakes.listed_let_go(connection, flow.name, said.name, 200)
            row = intakes.get(connection, flow.name, said.name)
        shown = [LetGoView(**{name: each[name] for name in LetGoView.model_fields}) for each in rows]
        return reply(LetGoList(items=shown, count=row["let_go"] if row else 0))

    @api.post("/api/flows/<string:name>/take", responses={201: ArrivedList}, operation_id="takeOne")
    def take_one(path: NamePath, body: TakeBody) -> Response:
        """Take in one thing that an intake of a flow holds, and run it end to end, though the flow may be switched off."""
        with _told():
            found = app.watching.take_one(_flow(app, path.name), body.name, body.intake)
        return reply(ArrivedList(items=[ArrivedView(**vars(each)) for each in found]), 201)

    return api


class _told:  # noqa: N801  (reads as a phrase)
    """What an intake says went wrong, as a problem."""

    def __enter__(self) -> None:
        pass

    def __exit__(self, kind: object, error: BaseException | None, trace: object) -> None:
        if isinstance(error, IntakeFailed):
            raise Problem(502, "intake-failed", str(error)) from error


def _flow(app: App, name: str) -> Flow:
    try:
        return app.catalog.newest_flow(name)
    except KeyError as error:
        raise Problem(404, "not-there", str(error.args[0])) from error


def _said(app: App, path: IntakePath) -> tuple[Flow, Said]:
    flow = _flow(app, path.name)
    for said in flow.intakes:
        if said.name == path.intake:
            return flow, said
    raise Problem(404, "not-there", f"The flow {flow.name} has no intake {path.intake!r}. Known: {', '.join(each.name for each in flow.intakes)}.")


def _view(app: App, flow: Flow, said: Said) -> IntakeView:
    kind = app.kinds.intakes[said.kind]
    with app.database.reading() as connection:
        row = intakes.get(connection, flow.name, said.name)
        running = (flows.standing(connection, flow.name) or (0, False))[1]
    view = IntakeView(
        name=said.name,
        kind=said.kind,
        tells=kind.tell(said.form),
        place=kind.place(said.form, app.home),
        looked_at=kind.build is not None,
        sent=bool(kind.sent),
        proved=kind.proved,
        most=getattr(said.form, "most", None),
    )
    if row is None:
        return view
    told = {name: row[name] for name in ("taken", "let_go", "told", "failing_since")}
    waits = WaitsView(**loads(row["would"])) if row["would"] is not None and running else None
    return view.model_copy(
        update={
            **told,
            "waits": waits,
            "address": _whole(app, said.kind, row["address"]) if row["address"] and may(g.role, "intakes.make_address", looks_only=False) else "",
        }
    )


def _whole(app: App, kind: str, address: str) -> str:
    """The address as others reach it."""
    return f"{app.address}{app.kinds.intakes[kind].sent}{address}"


def _preview(would: Would, currency: str) -> PreviewView:
    return PreviewView(
        **would.told(),
        items=list(_things(would.listed)),
        taken=would.taken,
        early=would.early,
        beyond=would.beyond,
        let_go=would.let_go,
        currency=currency,
    )


def _things(listed: list[tuple[Thing, str]]) -> Iterator[ThingView]:
    for thing, why in listed:
        yield ThingView(identity=thing.identity, name=thing.name, at=thing.at, size=thing.size, why=why)


def waiting_told(app: App) -> list[str]:
    """A line for each intake that waits for a yes, and for each that fails."""
    found: list[str] = []
    with app.database.reading() as connection:
        running = {name for name, _ in flows.running(connection)}
        waits, fails = intakes.waiting(connection), intakes.failing(connection)
    for row in waits:
        if row["flow"] in running:
            found.append(f"{row['flow']}: {_would_take(row, app.settings.price_currency)}")
    found += [f"{row['flow']}, {row['name']}: {row['told']}" for row in fails if row["flow"] in running]
    return found


def _things_and_items(would: dict[str, Any]) -> str:
    count, makes = would["count"], would.get("makes", would["count"])
    things = f"{count:,} {'thing' if count == 1 else 'things'}"
    return things if makes == count else f"{things}, {makes:,} {'item' if makes == 1 else 'items'}"


def _would_take(row: dict[str, Any], currency: str) -> str:
    would = loads(row["would"])
    cost = "" if would["high"] == "0" else f", which would cost {would['low']} to {would['high']} {currency}"
    cost = f", and what that costs is not known: {would['unknown']}" if would["unknown"] else cost
    return f"{row['name']} would take {_things_and_items(would)}{cost}. It waits for a yes, on the page of the flow under what comes in."
