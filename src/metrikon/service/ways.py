"""Ways in: kept in versions, tried up to the last press, made by showing them once; and the pictures and files that steps of a run made."""

from __future__ import annotations

import base64
from typing import Any

from flask import Response
from flask_openapi3 import Tag
from pydantic import Field

from metrikon.app.assemble import App
from metrikon.connections.fetching import FetchFailed
from metrikon.core.entering.plan import NoPlan, planned
from metrikon.core.entering.way import BadWay, WayIn
from metrikon.core.feel import BadExpression, FeelError
from metrikon.core.feel.holes import fill
from metrikon.drivers.entering import Seen, Stopped, enter
from metrikon.engine.showing import Show
from metrikon.engine.ways import way_in
from metrikon.ports.screen import ScreenStopped
from metrikon.service.asked import IdPath, NamePath
from metrikon.service.description import Room
from metrikon.service.problems import Problem
from metrikon.service.reply import reply
from metrikon.service.sent import text_sent
from metrikon.service.sent_views import Sent, View
from metrikon.store import keeping


class WayInView(View):
    """A way in, in a version."""

    name: str
    version: int
    about: str
    connection: str
    takes: list[str]
    looks_up: bool = Field(..., description="Whether it says how to look whether something is there already.")
    text: str
    created_at: int


class WayInList(View):
    items: list[WayInView]


class TryWayBody(Sent):
    values: dict[str, Any] = Field(..., max_length=100, description="What it takes, by its names.")


class SeenView(View):
    """A picture of the screen: when it was taken, and a PNG as a data address."""

    told: str
    picture: str


class TriedWay(View):
    """What a trial came to. `stopped`: why it did not reach the last press."""

    result: str
    stopped: str
    read: dict[str, str]
    chosen: list[str]
    pictures: list[SeenView]


class ShowBody(Sent):
    connection: str = Field(..., max_length=40)
    path: str = Field("", max_length=1000, description="What is opened, after the address of the connection.")
    values: dict[str, Any] = Field(default_factory=dict, max_length=100, description="Values of a sample, by the names that the way in is to take.")


class ActBody(Sent):
    """What is done on the screen. `kind`: point (x, y), open, sign_in, fill, choose, press, attach, expect, read_back, rows, rows_end,
    look_up (begins to show how it is looked for), there, none (texts that tell whether it is), look_up_end, undo."""

    kind: str = Field(..., max_length=20)
    x: float = 0
    y: float = 0
    text: str = Field("", max_length=10_000)
    label: str = Field("", max_length=300)
    value: str = Field("", max_length=300, description="Of a choice: the value of the sample by which it is chosen, where its words say more.")
    otherwise: str = Field("", max_length=300)
    last: bool = False


class ShowView(View):
    """A way in that is being shown. `pointed`: what was pointed at; `said`: what the screen did not take; `text`: the way in so far."""

    id: str
    picture: str
    address: str
    signing: bool
    pointed: dict[str, Any] | None
    said: str
    text: str
    lists: list[str]
    rows: bool
    looking: bool = Field(..., description="Whether it is being shown how is seen that something is there already.")
    looks_up: bool = Field(..., description="Whether that was shown.")


class MadeFilePath(View):
    id: str = Field(..., max_length=26)
    sha256: str = Field(..., pattern=r"^[0-9a-f]{64}$")


_KINDS = {b"\x89PNG": "image/png", b"%PDF": "application/pdf", b"<?xml": "application/octet-stream"}


def blueprint(app: App) -> Room:
    """The routes."""
    api = Room("ways", __name__, abp_tags=[Tag(name="ways in")])

    @api.get("/api/ways", responses={200: WayInList}, operation_id="listWaysIn")
    def list_ways() -> Response:
        """Every way in, in its newest version."""
        return reply(WayInList(items=[_view(app.ways.get(row["name"], row["version"])[0], row) for row in app.ways.all()]))

    @api.put("/api/ways/<string:name>", responses={200: WayInView}, operation_id="putWayIn")
    def put_way(path: NamePath) -> Response:
        """Keep a way in. The body is its YAML; all that is wrong with it is told at once."""
        text = text_sent()
        try:
            way = way_in(text)
            if way.way != path.name:
                raise Problem(422, "other-name", f"The way in calls itself {way.way!r}, but was put as {path.name!r}. Make them the same.")
            way, version = app.ways.put(text)
        except BadWay as error:
            raise Problem(422, "bad-way", "\n".join(f"{place}: {told}" if place else told for place, told in error.problems)) from error
        return reply(_view(way, {"name": way.way, "version": version, "text": text, "created_at": app.clock.now()}))

    @api.post("/api/ways/<string:name>/try", responses={200: TriedWay}, operation_id="tryWayIn")
    def try_way(path: NamePath, body: TryWayBody) -> Response:
        """Try a way in up to its last press, which is not done; with a picture of each screen."""
        try:
            way, _ = app.ways.get(path.name)
        except KeyError as error:
            raise Problem(404, "not-there", str(error.args[0])) from error
        try:
            plan = planned(way, body.values, lambda value, scope: fill(value, scope))
            with app.ways.screen(way.connection, way.patience) as screen:
                found = enter(screen, way, plan, app.files.get, dry=True)
        except (NoPlan, BadExpression, FeelError, FetchFailed, ScreenStopped) as error:
            raise Problem(422, "not-tried", str(error)) from error
        except KeyError as error:
            raise Problem(422, "no-file", f"{error.args[0]!r} is no file that is kept here.") from error
        except Stopped as error:
            return reply(TriedWay(result="stopped", stopped=str(error), read={}, chosen=[], pictures=_seen(error.pictures)))
        return reply(TriedWay(result=found.result, stopped="", read=found.read, chosen=found.chosen, pictures=_seen(found.pictures)))

    @api.post("/api/ways-shown", responses={201: ShowView}, operation_id="beginShowing")
    def begin(body: ShowBody) -> Response:
        """Begin to show a way in: a browser of the service opens the program."""
        try:
            id_, shown = app.showing.begin(body.connection, body.path, body.values)
            return reply(_shown(id_, shown), 201)
        except (FetchFailed, ScreenStopped) as error:
            raise Problem(422, "not-opened", str(error)) from error

    @api.get("/api/ways-shown/<string:id>", responses={200: ShowView}, operation_id="getShowing")
    def look(path: IdPath) -> Response:
        """A way in that is being shown, as its screen is now."""
        return reply(_shown(path.id, app.showing.get(path.id)))

    @api.post("/api/ways-shown/<string:id>/act", responses={200: ShowView}, operation_id="actOnScreen")
    def act(path: IdPath, body: ActBody) -> Response:
        """Do something on the screen; it is kept as a verb of the way in."""
        try:
            return reply(_shown(path.id, app.showing.act(path.id, body.kind, body.model_dump())))
        except ValueError as error:
            raise Problem(422, "no-such-act", str(error)) from error

    @api.delete("/api/ways-shown/<string:id>", responses={204: None}, operation_id="endShowing")
    def end(path: IdPath) -> Response:
        """Close the browser."""
        app.showing.end(path.id)
        return Response(status=204)

    @api.get("/api/runs/<string:id>/made/<string:sha256>", responses={200: {"content": {"application/octet-stream": {}}}}, operation_id="madeByRun")
    def made(path: MadeFilePath) -> Response:
        """A file that a step of a run made: a picture of a screen, a chart, a document."""
        with app.database.reading() as connection:
            known = keeping.made_in(connection, path.id)
        if path.sha256 not in known or not app.files.here(path.sha256):
            raise Problem(404, "not-there", "No step of this run made that file, or it is kept no longer.")
        data = app.files.get(path.sha256)
        media = next((kind for begins, kind in _KINDS.items() if data.startswith(begins)), "application/octet-stream")
        shown = Response(data, content_type=media)
        if media == "application/octet-stream":
            shown.headers["Content-Disposition"] = "attachment"
        shown.headers["Cache-Control"] = "private, max-age=3600"
        return shown

    return api


def _view(way: WayIn, row: dict[str, Any]) -> WayInView:
    return WayInView(
        name=way.way,
        version=row["version"],
        about=way.about.strip(),
        connection=way.connection,
        takes=way.takes,
        looks_up=way.look_up is not None,
        text=row["text"],
        created_at=row["created_at"],
    )


def _picture(data: bytes) -> str:
    return f"data:image/png;base64,{base64.b64encode(data).decode()}"


def _seen(pictures: list[Seen]) -> list[SeenView]:
    return [SeenView(told=each.told, picture=_picture(each.data)) for each in pictures]


def _shown(id_: str, shown: Show) -> ShowView:
    with shown.lock:
        try:
            picture, address, signing = shown.screen.picture(), shown.screen.address(), shown.screen.signing() is not None
        except ScreenStopped as error:
            picture, address, signing, shown.said = b"", "", False, shown.said or str(error)
    values = shown.recording.values
    return ShowView(
        id=id_,
        picture=_picture(picture),
        address=address,
        signing=signing,
        pointed=dict(shown.pointed) if shown.pointed else None,
        said=shown.said,
        text=shown.recording.text("shown"),
        lists=[name for name, value in values.items() if isinstance(value, list)],
        rows=shown.recording.rows is not None,
        looking=shown.recording.looking,
        looks_up=shown.recording.look_up is not None,
    )
