"""wait: until a moment comes, an event arrives, or a condition holds."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import UTC, date, datetime, timedelta
from typing import TYPE_CHECKING, Any, Literal

from pydantic import Field

from metrikon.core.feel.temporal import date_from, moment_from
from metrikon.core.flows.around import Around, closed
from metrikon.core.flows.form import Condition, Duration, Form, seconds_of
from metrikon.core.flows.kind import ANYTHING, Kind, Said, Schema, Steady
from metrikon.core.flows.words import shown, told_duration

if TYPE_CHECKING:
    from metrikon.core.flows.state import Open
    from metrikon.core.flows.walk import Here, Walk


class Wait(Form):
    """Wait until a moment comes, an event arrives, or a condition holds; nothing is held meanwhile, and a restart changes nothing.

    `until` is looked at when the moment comes, when an event arrives, and each so often; without it the first of these ends the wait. With `event`
    the condition sees what came as `event`.
    """

    until: Condition | None = Field(None, description="A FEEL condition; the wait ends when it holds.")
    at: Any = Field(None, description="A moment: a date and time, or a date, which begins in the zone of the flow.")
    span: Duration | None = Field(None, alias="for", description="How long: seconds, or a duration such as PT2H.")
    every: Duration | None = Field(None, description="How often the condition is looked at.")
    event: str | None = Field(None, description="The key of an event that is sent to the flow, such as the number of an order.")
    then: Literal["park", "go on"] = Field(
        "park", description="What happens when the limit of the step is reached: park, or go on with `came: limit`."
    )


class _Waiting(Steady):
    def enter(self, walk: Walk, here: Here) -> None:
        values, missing = walk.filled(here, here.step.plain)
        wait = here.step.parameters
        due = 0
        if wait.at is not None:
            moment = moment_of(values["at"], walk.moment())
            if moment is None:
                walk.stuck(here, f"`at` is no moment: {', '.join(missing) or values['at']!s} has no date or time. Correct the flow, then continue.")
            due = max(1, int(moment.timestamp() * 1000))
        elif wait.span is not None:
            due = walk.now + int(seconds_of(wait.span) * 1000)
        key = values["event"]
        if wait.event is not None and not key:
            walk.stuck(here, f"The key of the event has no value: {', '.join(missing) or wait.event} is missing. Correct the flow, then continue.")
        self._look_or_wait(walk, here, values, due, str(key or ""))

    def _look_or_wait(self, walk: Walk, here: Here, values: Mapping[str, Any], due: int, key: str) -> None:
        wait = here.step.parameters
        if wait.until is not None and not due and not key and self._holds(walk, here, None):
            self._over(walk, here, "moment", None)
            return
        if wait.every is not None and not due:
            due = walk.now + int(seconds_of(wait.every) * 1000)
        walk.wait(here, values, due, key, _told(due, key, walk.moment()))

    def _holds(self, walk: Walk, here: Here, event: Any) -> bool:
        return walk.holds(here, here.step.parameters.until, False, {"event": event})

    def woken(self, walk: Walk, here: Here, step: Open, data: Mapping[str, Any]) -> None:
        wait = here.step.parameters
        if wait.until is None or self._holds(walk, here, data.get("data")):
            self._over(walk, here, str(data["came"]), data.get("data"))
            return
        moment = data["came"] == "moment"
        due = walk.now + int(seconds_of(wait.every) * 1000) if wait.every is not None and moment else 0 if moment else step.due
        if not due and not step.key and not step.late:
            walk.stuck(here, f"The condition {wait.until!r} does not hold, and nothing more is waited for. Correct the flow, then continue.")
        walk.wait(here, step.filled, due, step.key, _told(due, step.key, walk.moment()))

    def _over(self, walk: Walk, here: Here, came: str, event: Any) -> None:
        walk.close(here.path)
        walk.go_on(here, {"came": came, "at": walk.moment().isoformat(timespec="seconds"), "event": event})


def moment_of(value: Any, now: datetime) -> datetime | None:
    """A moment from a text; a date, and a date and time without a zone, are of the zone of `now`."""
    text = str(value) if value is not None else ""
    found: date | None = moment_from(text) or date_from(text)
    if isinstance(found, datetime):
        return found if found.tzinfo is not None else found.replace(tzinfo=now.tzinfo)
    return None


def _told(due: int, key: str, now: datetime) -> str:
    when = (datetime(1970, 1, 1, tzinfo=UTC) + timedelta(milliseconds=due)).astimezone(now.tzinfo) if due else None
    parts = [*([f"until {when:%Y-%m-%d %H:%M}"] if when else []), *([f"for the event {key!r}"] if key else [])]
    return f"It waits {' or '.join(parts)}." if parts else "It waits."


def _late(values: Mapping[str, Any], now: datetime) -> Any:
    return {"came": "limit", "at": now.isoformat(timespec="seconds"), "event": None} if values["then"] == "go on" else None


def _check(parameters: Wait, around: Around) -> Iterable[Said]:
    if parameters.at is None and parameters.span is None and parameters.every is None and parameters.event is None:
        yield "", "It says nothing that comes: give `at`, `for`, `every` or `event`."
    if parameters.at is not None and parameters.span is not None:
        yield "for", "Give `at` or `for`, not both."
    if parameters.every is not None and parameters.until is None:
        yield "every", "Looking again and again needs a condition; add `until`."


def _result(parameters: Wait, around: Around) -> Schema:
    return closed({"came": {"type": "string", "description": '"moment", "event" or "limit".'}, "at": {"type": "string"}, "event": ANYTHING})


def _tell(parameters: Wait) -> str:
    parts = []
    if parameters.at is not None:
        parts.append(f"until {shown(parameters.at)}")
    if parameters.span is not None:
        parts.append(f"for {told_duration(parameters.span)}")
    if parameters.event is not None:
        parts.append(f"for the event “{shown(parameters.event)}”")
    if parameters.every is not None:
        parts.append(f"looking every {told_duration(parameters.every).removeprefix('1 ')}")
    return f"Wait {' or '.join(parts)}{', until ' + parameters.until if parameters.until else ''}."


SAMPLE = """\
wait: {for: P2D}
"""
KIND = Kind(
    "wait",
    Wait,
    result=_result,
    check=_check,
    sees=lambda parameters, around: {"event": ANYTHING},
    late=_late,
    leaves=True,
    control=_Waiting(),
    tell=_tell,
    sample=SAMPLE,
)
