"""Samples of flows, and the latest that came in, which may become samples."""

from __future__ import annotations

from flask import Response, g, request
from flask_openapi3 import Tag
from pydantic import Field

from metrikon.app.assemble import App
from metrikon.engine.samples import BadSample
from metrikon.service.asked import NamePath
from metrikon.service.description import Room
from metrikon.service.problems import Problem
from metrikon.service.reply import reply
from metrikon.service.sent_views import View


class SamplePath(NamePath):
    sample: str = Field(..., max_length=60)


class SampleQuery(View):
    """What is kept: an item that came in, or the body, a file under a name."""

    item: str = Field("", max_length=26, description="An item that came in; the body is the file without one.")
    intake: str = Field("", max_length=40, description="Of what was sent and let go: the intake …")
    let_go: str = Field("", max_length=200, description="… and the identity, as it is listed there.")
    file_name: str = Field("sample", max_length=255, description="What the file in the body is called.")
    why: str = Field("", max_length=2000, description="A word why it is kept.")


class SampleView(View):
    name: str
    why: str
    file_name: str
    intake: str
    sha256: str
    size: int
    received_at: int
    kept_at: int
    kept_by: str


class CandidateView(View):
    """One of the latest items of an intake."""

    id: str
    name: str
    intake: str
    sha256: str
    size: int
    received_at: int


class SampleList(View):
    items: list[SampleView]
    candidates: list[CandidateView] = Field(..., description="The latest items by each intake of the flow, newest first.")


def blueprint(app: App) -> Room:
    """Routes of samples."""
    api = Room("samples", __name__, abp_tags=[Tag(name="flows")])

    @api.get("/api/flows/<string:name>/samples", responses={200: SampleList}, operation_id="listSamples")
    def list_samples(path: NamePath) -> Response:
        """The samples of a flow, and the latest items that may become one."""
        return reply(_list(path.name))

    @api.put("/api/flows/<string:name>/samples/<string:sample>", responses={200: SampleList}, operation_id="keepSample")
    def keep_sample(path: SamplePath, query: SampleQuery) -> Response:
        """Keep an item, or the file in the body, as a sample of a flow, with a copy of what came in; one of that name is replaced."""
        try:
            if query.intake:
                app.samples.keep_let_go(path.name, path.sample, query.intake, query.let_go, query.why, str(g.person))
            elif query.item:
                app.samples.keep_item(path.name, path.sample, query.item, query.why, str(g.person))
            else:
                app.samples.keep_file(path.name, path.sample, query.file_name, request.get_data(cache=False), query.why, str(g.person))
        except BadSample as error:
            raise Problem(422, "bad-sample", str(error)) from error
        return reply(_list(path.name))

    @api.delete("/api/flows/<string:name>/samples/<string:sample>", responses={200: SampleList}, operation_id="removeSample")
    def remove_sample(path: SamplePath) -> Response:
        """Keep a sample no longer."""
        app.samples.remove(path.name, path.sample)
        return reply(_list(path.name))

    def _list(flow: str) -> SampleList:
        kept, candidates = app.samples.of(flow)
        return SampleList(
            items=[SampleView(**{name: value for name, value in row.items() if name != "flow"}) for row in kept],
            candidates=[CandidateView(**{name: value for name, value in row.items() if name != "flow"}) for row in candidates],
        )

    return api
