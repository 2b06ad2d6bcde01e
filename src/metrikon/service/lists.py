"""Lists of known values: which there are, what they hold, and new ones in their place."""

from __future__ import annotations

from flask import Response
from flask_openapi3 import Tag
from pydantic import BaseModel, Field

from metrikon.app.assemble import App
from metrikon.core.records.lists import KnownList
from metrikon.service.asked import NamePath
from metrikon.service.description import Room
from metrikon.service.problems import Problem
from metrikon.service.reply import reply
from metrikon.service.sent_views import View
from metrikon.store.lists import BadList


class ListBody(BaseModel):
    """A list as CSV: its values in the first column; heads in the first line where it has several columns."""

    text: str = Field(..., max_length=20_000_000)


class ListView(View):
    """A list: how many values it holds, and its columns by their heads (one column has none)."""

    name: str
    count: int
    columns: list[str]


class ListDetail(ListView):
    """A list with all it holds, as CSV."""

    text: str


class AllLists(View):
    """Every list."""

    items: list[ListView]


def blueprint(app: App) -> Room:
    """Routes of lists."""
    api = Room("lists", __name__, abp_tags=[Tag(name="lists")])

    @api.get("/api/lists", responses={200: AllLists}, operation_id="listLists")
    def all_lists() -> Response:
        """Every list of known values."""
        found = [known for name in app.workshop.lists.names() if (known := app.workshop.lists.get(name))]
        return reply(AllLists(items=[ListView(**_about(each)) for each in found]))

    @api.get("/api/lists/<string:name>", responses={200: ListDetail}, operation_id="getList")
    def get_list(path: NamePath) -> Response:
        """A list as CSV."""
        known = app.workshop.lists.get(path.name)
        if known is None:
            raise Problem(404, "not-there", f"There is no list {path.name!r}.")
        return reply(ListDetail(**_about(known), text=app.workshop.lists.text(path.name) or ""))

    @api.put("/api/lists/<string:name>", responses={200: ListView}, operation_id="putList")
    def put_list(path: NamePath, body: ListBody) -> Response:
        """Keep a list in the place of the one before; records that are checked from now on are held against it."""
        try:
            return reply(ListView(**_about(app.workshop.lists.put(path.name, body.text))))
        except BadList as error:
            raise Problem(422, "bad-list", str(error)) from error

    return api


def _about(known: KnownList) -> dict[str, object]:
    return {"name": known.name, "count": len(known.rows) - bool(known.heads), "columns": list(known.heads)}
