"""Fields to columns: the columns of destinations as they really are, what is put into them, and what seems to fit."""

from __future__ import annotations

from typing import Any

from flask import Response
from flask_openapi3 import Tag
from pydantic import Field

from metrikon.app.assemble import App
from metrikon.core.flows import mapping
from metrikon.service.description import Room
from metrikon.service.problems import Problem
from metrikon.service.reply import reply
from metrikon.service.sent import text_sent
from metrikon.service.sent_views import Sent, View


class ColumnView(View):
    """A column of a destination. `wanted`: a row without a value for it is not taken; `value`: what is put into it, as the flow says; `suggested`: what seems to fit."""

    name: str
    kind: str
    wanted: bool
    there: bool = Field(..., description="Whether the destination has it; others are added with the first row, where it takes more.")
    value: Any = None
    suggested: str = ""


class KnownField(View):
    """A value that is known where the row is written."""

    expression: str
    kind: str


class MappingView(View):
    """What a step puts into the columns of a destination. `why`: what hinders from telling its columns, or that there are none yet."""

    step: str
    place: str
    destination: str
    columns: list[ColumnView]
    grows: bool
    why: str
    fields: list[KnownField]


class MappingList(View):
    items: list[MappingView]


class RemapBody(Sent):
    text: str = Field(..., max_length=400_000, description="The text of the flow.")
    place: str = Field(..., max_length=500, description="Which columns, as told.")
    columns: dict[str, Any] = Field(..., min_length=1, max_length=500, description="Column and value, in order.")


class TextView(View):
    text: str


def blueprint(app: App) -> Room:
    """The routes."""
    api = Room("mapping", __name__, abp_tags=[Tag(name="flows")])

    @api.post("/api/flows-mapping", responses={200: MappingList}, operation_id="mappingOfFlow")
    def mapping_of() -> Response:
        """For each step of a flow that writes rows: the real columns, what is put into them, what seems to fit, and the values that are known there. The body is its YAML."""
        flow, _ = app.catalog.problems_in(text_sent())
        known = app.catalog.known()
        return reply(
            MappingList(
                items=[_view(app, flow, each) for each in mapping.mapped(flow, known) if each.where[-1] == "columns"] if flow is not None else []
            )
        )

    @api.post("/api/flows-remap", responses={200: TextView}, operation_id="remapFlow")
    def remap(body: RemapBody) -> Response:
        """The text of a flow with other columns at one place, all else as it was; nothing is kept."""
        where = tuple(int(each) if each.isdecimal() else each for each in body.place.split("/"))
        try:
            return reply(TextView(text=mapping.remapped(body.text, where, body.columns)))
        except ValueError as error:
            raise Problem(422, "no-such-place", str(error)) from error

    return api


def _view(app: App, flow: Any, each: mapping.Mapped) -> MappingView:
    looked = app.columns.of(flow, each.destination)
    there = looked.columns or mapping.Columns((), grows=True)
    fields = mapping.fields(each.around)
    suggested = mapping.suggested(there.heads, fields)
    said = {id(head): (name, value) for name, value in each.columns.items() if (head := there.of(name)) is not None}
    columns = [
        ColumnView(
            name=said[id(head)][0] if id(head) in said else head.name,
            kind=head.kind,
            wanted=head.wanted,
            there=True,
            value=said[id(head)][1] if id(head) in said else None,
            suggested=suggested.get(head.name, ""),
        )
        for head in there.heads
    ]
    columns += [
        ColumnView(name=name, kind="", wanted=False, there=False, value=value) for name, value in each.columns.items() if there.of(name) is None
    ]
    return MappingView(
        step=each.step.name,
        place="/".join(map(str, each.where)),
        destination=each.destination,
        columns=columns,
        grows=there.grows,
        why=looked.why,
        fields=[KnownField(expression=one.expression, kind=one.kind) for one in fields],
    )
