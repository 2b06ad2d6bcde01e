"""Flows copied with other settings, and carried from one service to another as one file."""

from __future__ import annotations

from typing import Any

from flask import Response, g, request
from flask_openapi3 import Tag
from pydantic import Field

from metrikon.app.assemble import App
from metrikon.core.flows.copying import BadCopy
from metrikon.engine.carrying import BadCarried
from metrikon.service.asked import NamePath
from metrikon.service.description import Room
from metrikon.service.problems import Problem
from metrikon.service.reply import attachment, reply
from metrikon.service.sent_views import Sent, View
from metrikon.service.views import FlowPut


class CopyBody(Sent):
    name: str = Field(..., max_length=60, description="What the copy is called.")
    settings: dict[str, Any] = Field(default_factory=dict, description="Settings that are other than those of the flow that is copied.")
    why: str = Field("", max_length=500)


class ImportQuery(View):
    replacing: bool = Field(False, description="Whether a list that is here and differs may be replaced.")
    trying: bool = Field(False, description="Only tell what would become of each thing in the file.")


class TakenView(View):
    what: str
    name: str
    becomes: str


class TakenList(View):
    """What became of each thing in a carried file: new, same, new version, replaced."""

    items: list[TakenView]


def blueprint(app: App) -> Room:
    """Routes of copies and carried files."""
    api = Room("carrying", __name__, abp_tags=[Tag(name="flows")])

    @api.post("/api/flows/<string:name>/copy", responses={201: FlowPut}, operation_id="copyFlow")
    def copy(path: NamePath, body: CopyBody) -> Response:
        """Copy a flow under another name, with other values of its settings. The copy is switched off."""
        try:
            name, version = app.catalog.copy_flow(path.name, body.name, body.settings, str(g.person), body.why)
        except KeyError as error:
            raise Problem(404, "not-there", str(error.args[0])) from error
        except BadCopy as error:
            raise Problem(422, "bad-copy", str(error)) from error
        flow = app.catalog.newest_flow(name)
        return reply(
            FlowPut(name=name, version=version, told=app.beforehand.told(flow), own=app.beforehand.own(flow), places=app.beforehand.places(flow)), 201
        )

    @api.get("/api/flows/<string:name>/export", operation_id="exportFlow")
    def export(path: NamePath) -> Response:
        """A flow as one file, with the flows that it uses, record types, decision tables, lists and samples. No secret is in it."""
        try:
            data = app.carrying.export(path.name)
        except KeyError as error:
            raise Problem(404, "not-there", str(error.args[0])) from error
        except BadCarried as error:
            raise Problem(422, "not-carried", str(error)) from error
        return Response(data, content_type="application/zip", headers=attachment(f"{path.name}.zip"))

    @api.post("/api/flows-import", responses={200: TakenList}, operation_id="importFlow")
    def take(query: ImportQuery) -> Response:
        """Take over a flow that was exported elsewhere (the body is the file): all of it, or nothing. Flows that are new are switched off."""
        try:
            found = app.carrying.take(request.get_data(cache=False), str(g.person), replacing=query.replacing, trying=query.trying)
        except BadCarried as error:
            raise Problem(422, "not-carried", str(error)) from error
        return reply(TakenList(items=[TakenView(**vars(each)) for each in found]))

    return api
