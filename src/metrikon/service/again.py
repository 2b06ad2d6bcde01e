"""Runs begun again, one or a chosen set; runs of a flow paused and cancelled together."""

from __future__ import annotations

from typing import Any, Literal

from flask import Response, g
from flask_openapi3 import Tag
from pydantic import Field

from metrikon.app.assemble import App
from metrikon.engine.again import Chosen
from metrikon.service.asked import LARGEST, CancelBody, IdPath, NamePath
from metrikon.service.description import Room
from metrikon.service.known import known_flow
from metrikon.service.reply import reply, states
from metrikon.service.sent_views import Sent, View
from metrikon.service.views import ContinueView, RunStarted

SEND_AGAIN = "Mails, messages and calls that went out before go out again. Without it they are left at that."


ANEW = "Models are asked anew by the steps that are repeated: what they answered before is not used."


class AgainBody(Sent):
    from_step: str = Field("", max_length=40, description="The step from which on it is done anew; all of it without one.")
    values: dict[str, Any] = Field(
        default_factory=dict, max_length=200, description="Results of steps before that one, corrected, by path: `checked.record.total`."
    )
    typed: dict[str, str] = Field(
        default_factory=dict,
        max_length=200,
        description="The same as a person types them: read as the fields of the record type are, so that 1.784,00 is a number.",
    )
    send_again: bool = Field(False, description=SEND_AGAIN)
    anew: bool = Field(False, description=ANEW)


class SetBody(Sent):
    """A set of items of a flow."""

    from_step: str = Field("", max_length=40, description="The step from which on they are done anew; all of it without one.")
    state: str = Field(
        "",
        max_length=120,
        description="Those whose latest run is in one of these states, parted by commas; settled and parked without. Runs in review are replaced where they are named.",
    )
    since: int = Field(0, ge=0, le=LARGEST, description="Those that came in from this moment on, in milliseconds since 1970.")
    until: int = Field(0, ge=0, le=LARGEST, description="Those that came in before this moment.")
    search: str = Field("", max_length=200, description="Those with this in their name or values.")
    send_again: bool = Field(False, description=SEND_AGAIN)
    anew: bool = Field(False, description=ANEW)
    count: int | None = Field(None, ge=0, le=LARGEST, description="A yes: the count that was told. Without it, it is only told what this would take.")


class RepeatsBody(Sent):
    """What becomes of likely repeats that are held."""

    do: Literal["take", "let go"] = Field(..., description="Whether their runs go on, or end.")
    count: int = Field(..., ge=0, le=LARGEST, description="How many were told before.")


class RepeatsView(View):
    """Likely repeats."""

    count: int = Field(..., description="How many there are, or were settled.")


class SetView(View):
    """What a set is, and what running it again takes at most, going by the latest runs; what models have answered before costs nothing again."""

    count: int
    calls: int
    tokens: int
    cost: str
    sent: dict[str, int] = Field(..., description="What went out before by them, of each kind how much: mail, message, call, entry.")
    runs: list[str] = Field(..., description="The new runs; none when this was only asked.")


def blueprint(app: App) -> Room:
    """Routes of running again."""
    api = Room("again", __name__, abp_tags=[Tag(name="items and runs")])

    @api.post("/api/items/<string:id>/runs", responses={201: RunStarted}, operation_id="runAgain")
    def run_again(path: IdPath) -> Response:
        """Run an item again on the newest version of its flow; rows that were written are not written again. A parked run is replaced."""
        return reply(RunStarted(run_id=app.again.item(path.id, str(g.person))), 201)

    @api.post("/api/runs/<string:id>/again", responses={201: RunStarted}, operation_id="runAgainFrom")
    def run_again_from(path: IdPath, body: AgainBody) -> Response:
        """Run the item of a run again from any step on: what came before is taken over, as it was or as it is corrected here."""
        begun = app.again.item(
            *(app.again.run_of(path.id), str(g.person), body.from_step, body.values),
            typed=body.typed,
            send_again=body.send_again,
            anew=body.anew,
        )
        return reply(RunStarted(run_id=begun), 201)

    @api.post("/api/flows/<string:name>/again", responses={200: SetView}, operation_id="runSetAgain")
    def run_set(path: NamePath, body: SetBody) -> Response:
        """Run a chosen set of items of a flow again: first without a count, which tells how many and what it takes; then with it."""
        chosen = Chosen(path.name, states(body.state), body.since, body.until, body.search)
        cost = app.again.cost(chosen, body.from_step)
        said = {"send_again": body.send_again, "anew": body.anew}
        begun = app.again.several(chosen, body.count, str(g.person), body.from_step, **said) if body.count is not None else []
        return reply(SetView(count=cost.items, calls=cost.calls, tokens=cost.tokens, cost=str(cost.cost), sent=dict(cost.sent), runs=begun))

    @api.get("/api/flows/<string:name>/repeats", responses={200: RepeatsView}, operation_id="countRepeats")
    def count_repeats(path: NamePath) -> Response:
        """How many likely repeats of a flow are held."""
        return reply(RepeatsView(count=len(app.answers.repeats(path.name))))

    @api.post("/api/flows/<string:name>/repeats", responses={200: RepeatsView}, operation_id="settleRepeats")
    def settle_repeats(path: NamePath, body: RepeatsBody) -> Response:
        """Settle all likely repeats of a flow at once: they are taken, or let go."""
        return reply(RepeatsView(count=app.answers.settle_repeats(path.name, body.do, body.count, str(g.person))))

    @api.post("/api/runs/<string:id>/pause", responses={200: ContinueView}, operation_id="pauseRun")
    def pause_run(path: IdPath) -> Response:
        """Pause a run: nothing more of it is done until somebody continues it."""
        app.answers.pause(path.id, str(g.person))
        return reply(ContinueView(continued=0))

    @api.post("/api/flows/<string:name>/cancel-runs", responses={200: ContinueView}, operation_id="cancelRuns")
    def cancel_runs(path: NamePath, body: CancelBody) -> Response:
        """End all runs of a flow that have not settled; how many there were."""
        known_flow(app, path.name)
        return reply(ContinueView(continued=app.answers.cancel_all(path.name, str(g.person), body.comment)))

    return api
