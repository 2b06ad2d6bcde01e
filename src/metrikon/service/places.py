"""Places that flows may touch besides those of the service's folder."""

from __future__ import annotations

from flask import Response, g
from flask_openapi3 import Tag

from metrikon.app.assemble import App
from metrikon.engine.places import BadPlace
from metrikon.service.asked import PlaceBody, PlaceQuery
from metrikon.service.description import Room
from metrikon.service.problems import Problem
from metrikon.service.reply import reply
from metrikon.service.views import PlaceList, PlaceView


def blueprint(app: App) -> Room:
    """The routes."""
    api = Room("places", __name__, abp_tags=[Tag(name="places")])

    @api.get("/api/places", responses={200: PlaceList}, operation_id="listPlaces")
    def list_places() -> Response:
        """The folders, files and servers that flows may touch: by the settings, and by an admin."""
        return reply(PlaceList(items=[PlaceView(**each) for each in app.places.all()]))

    @api.post("/api/places", responses={201: PlaceView}, operation_id="allowPlace")
    def allow_place(body: PlaceBody) -> Response:
        """Let flows touch a folder, a file or a server."""
        try:
            place = app.places.allow(body.place, body.why, str(g.person))
        except BadPlace as error:
            raise Problem(422, "bad-place", str(error)) from error
        return reply(PlaceView(**next(each for each in app.places.all() if each["place"] == place)), 201)

    @api.delete("/api/places", responses={204: None}, operation_id="refusePlace")
    def refuse_place(query: PlaceQuery) -> Response:
        """Let flows touch it no longer: runs that would are parked."""
        if not app.places.refuse(query.place):
            raise Problem(404, "not-there", f"{query.place} was not allowed by an admin. What the settings allow stands in the settings.")
        return Response(status=204)

    return api
