"""Whether the service is up and ready."""

from __future__ import annotations

from flask import Response
from flask_openapi3 import Tag

from metrikon import __version__
from metrikon.app.assemble import App
from metrikon.service.description import Room
from metrikon.service.reply import reply
from metrikon.service.views import (
    HealthView,
)
from metrikon.store import flows, intakes


def blueprint(app: App) -> Room:
    """The routes."""
    api = Room("status", __name__, abp_tags=[Tag(name="status")])

    @api.get("/health", responses={200: HealthView}, operation_id="health")
    def health() -> Response:
        """The process is up."""
        return reply(HealthView(status="up", version=__version__))

    @api.get("/ready", responses={200: HealthView, 503: HealthView}, operation_id="ready")
    def ready() -> Response:
        """It can take items in and work on them."""
        problems = []
        try:
            app.database.write(lambda connection: None)
        except Exception as error:
            problems.append(f"The database does not take changes: {error}")
        if room := app.room.problem():
            problems.append(room)
        if app.engine.stopping:
            problems.append("The service is stopping.")
        fails = _failing(app) if not problems else []
        if fails:
            return reply(HealthView(status="ready", version=__version__, problems=fails))
        return reply(HealthView(status="not ready" if problems else "ready", version=__version__, problems=problems), 503 if problems else 200)

    return api


def _failing(app: App) -> list[str]:
    """The intakes that fail, by name alone: whoever asks need not be known."""
    with app.database.reading() as connection:
        running = {name for name, _ in flows.running(connection)}
        return [f"The intake {row['name']} of {row['flow']} fails." for row in intakes.failing(connection) if row["flow"] in running]
