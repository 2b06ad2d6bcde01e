"""Today: what needs a person, what came in, what it cost; and what changed since."""

from __future__ import annotations

from datetime import UTC, datetime
from decimal import Decimal
from typing import Any

from flask import Response
from flask_openapi3 import Tag

from metrikon.app.assemble import App
from metrikon.service.asked import ChangesQuery
from metrikon.service.description import Room
from metrikon.service.intakes import waiting_told
from metrikon.service.reply import reply
from metrikon.service.views import (
    ChangesView,
    ChangeView,
    FlowToday,
    Spend,
    TodayView,
    WaitingView,
)
from metrikon.store import changes, deliveries, flows, listing
from metrikon.store.deliveries import Delivery


def blueprint(app: App) -> Room:
    """The routes."""
    api = Room("today", __name__, abp_tags=[Tag(name="today")])

    @api.get("/api/today", responses={200: TodayView}, operation_id="today")
    def today() -> Response:
        """What needs a person, what came in today and what became of it, and what it cost."""
        now = datetime.fromtimestamp(app.clock.now() / 1000, UTC).astimezone()
        midnight = int(now.replace(hour=0, minute=0, second=0, microsecond=0).timestamp() * 1000)
        with app.database.reading() as connection:
            waits = listing.waiting(connection)
            counts = listing.counts_since(connection, midnight)
            otherwise = listing.otherwise_since(connection, midnight)
            staying = deliveries.staying(connection)
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
            flows=[_flow_today(name, counts, otherwise.get(name, 0)) for name in names],
            spend=spend,
            problems=[
                *(each["message"] for each in app.watching.problems()),
                *waiting_told(app),
                *(_stays(each) for each in staying),
                *(_failing(each) for each in app.connections.failing()),
            ],
            model=app.default_model,
            empty=empty,
        )
        return reply(view)

    @api.get("/api/changes", responses={200: ChangesView}, operation_id="changes")
    def get_changes(query: ChangesQuery) -> Response:
        """What changed after a number. Ask again with `last`; `gap` says that some changes are gone and all must be loaded anew."""
        with app.database.reading() as connection:
            if query.after < 0:
                return reply(ChangesView(last=changes.latest(connection), gap=False, changes=[]))
            found = changes.after(connection, query.after)
        return reply(ChangesView(last=found["last"], gap=found["gap"], changes=[ChangeView(**row) for row in found["changes"]]))

    return api


def _failing(row: dict[str, Any]) -> str:
    since = datetime.fromtimestamp(row["failing_since"] / 1000, UTC).astimezone()
    return f"The connection {row['name']} fails since {since:%Y-%m-%d %H:%M}: {row['told']}"


def _stays(found: Delivery) -> str:
    return f"What run {found.run_id} has written to {found.receipt or found.target} was to be taken back and stands still: {found.error}"


def _waiting(row: dict[str, Any]) -> WaitingView:
    first = next((each["message"] for each in row["findings"] if each["level"] == "stop"), row["reason"])
    if row["record_id"] is None and row["asked"]:
        first = str(row["asked"]["question"])
    return WaitingView(
        run_id=row["id"],
        item_id=row["item_id"],
        item_name=row["item_name"],
        flow=row["flow"],
        state=row["state"],
        since=row["changed_at"],
        record_id=row["record_id"],
        question_id=row["question_id"] if row["record_id"] is None else None,
        title=row["title"],
        message=first,
    )


def _flow_today(name: str, counts: list[dict[str, Any]], otherwise: int) -> FlowToday:
    own = {row["state"]: row["count"] for row in counts if row["flow"] == name}
    return FlowToday(
        flow=name,
        came=sum(own.values()),
        written=own.get("done", 0) - otherwise,
        otherwise=otherwise,
        waits=own.get("review", 0) + own.get("held", 0),
        parked=own.get("parked", 0),
        refused=own.get("refused", 0),
        stopped=own.get("stopped", 0),
        working=own.get("ready", 0) + own.get("running", 0) + own.get("waiting", 0),
    )
