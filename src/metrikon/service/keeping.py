"""What is kept for how long, and forgetting on request."""

from __future__ import annotations

from typing import Any

import msgspec
from flask import Response, g
from flask_openapi3 import Tag
from pydantic import Field

from metrikon.app.assemble import App
from metrikon.engine.forgetting import Holding
from metrikon.engine.keeping import Due
from metrikon.service.asked import LARGEST
from metrikon.service.description import Room
from metrikon.service.problems import Problem
from metrikon.service.reply import reply
from metrikon.service.sent_views import Sent, View
from metrikon.store import keeping


class DueView(View):
    what: str
    days: int = Field(..., description="After how many days it is kept no longer; 0: kept for good.")
    count: int
    bytes: int


class DueList(View):
    """What is kept no longer."""

    items: list[DueView]


class ForgetBody(Sent):
    """What is to be forgotten: an item, or all items that hold a value."""

    item: str = Field("", max_length=26)
    value: str = Field("", max_length=200)
    count: int | None = Field(None, ge=0, le=LARGEST, description="A yes: the number of items that was told. Without it, it is only told.")


class ForgetView(View):
    """The items that are meant; once it is done, the id of the proof and the proof itself."""

    items: list[str]
    besides: dict[str, int] = Field(
        default_factory=dict,
        description="What holds the value besides items, and how many: files that were only tried, calls of models, what was let go, samples.",
    )
    id: str = ""
    proof: dict[str, Any] | None = None


class ProofView(View):
    id: str
    at: int
    by: str
    proof: dict[str, Any]


class ProofList(View):
    """Proofs of what was removed, newest first."""

    items: list[ProofView]


def blueprint(app: App) -> Room:
    """Routes of keeping and forgetting."""
    api = Room("keeping", __name__, abp_tags=[Tag(name="keeping")])

    @api.get("/api/keeping", responses={200: DueList}, operation_id="listDue")
    def due() -> Response:
        """What would be removed now, by the settings of how long things are kept."""
        return reply(_list(app.keeping.due()))

    @api.post("/api/keeping", responses={200: DueList}, operation_id="removeDue")
    def carry_out() -> Response:
        """Remove it now; it is done every hour besides."""
        return reply(_list(app.keeping.carry_out()))

    @api.post("/api/forget", responses={200: ForgetView}, operation_id="forget")
    def forget(body: ForgetBody) -> Response:
        """Forget everything about an item, or about all items that hold a value, for good: first without a count, which tells them; then with it.

        Rows that were written elsewhere are told, and stay: they are no longer ours.
        """
        if bool(body.item) == bool(body.value):
            raise Problem(422, "what", "Give either an item or a value.")
        holding = Holding([body.item]) if body.item else app.forgetting.holding(body.value)
        found = holding.items
        if body.count is None:
            return reply(ForgetView(items=found, besides=holding.besides))
        if body.count != len(found):
            raise Problem(409, "other-count", f"There are {len(found)} such items now, and not {body.count}. Look again, then say yes.")
        id_, proof = app.forgetting.forget(found, str(g.person), body.value)
        return reply(ForgetView(items=found, besides=holding.besides, id=id_, proof=msgspec.to_builtins(proof)))

    @api.get("/api/forgotten", responses={200: ProofList}, operation_id="listForgotten")
    def forgotten() -> Response:
        """What was removed on request, with its proofs."""
        with app.database.reading() as connection:
            return reply(ProofList(items=[ProofView(**row) for row in keeping.proofs(connection)]))

    return api


def _list(found: list[Due]) -> DueList:
    return DueList(items=[DueView(**vars(each)) for each in found])
