"""A schedule: at times by a cron expression or in plain words, in the zone of the flow; with nothing else, or for each row of a sheet or a table."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Literal
from zoneinfo import ZoneInfo

from cronsim import CronSim, CronSimError
from pydantic import Field, model_validator

from metrikon.core.flows.coming import Coming
from metrikon.core.flows.form import Form
from metrikon.core.values.exact import dumps
from metrikon.intakes.rows import Rows, RowSource, touched_by
from metrikon.ports.intake import Here, IntakeKind, Piece, Quiet, Thing
from metrikon.ports.touching import Touched

DAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
SHOWN = 5  # times that are told beforehand
MOST = 10_000  # times that were missed, and are counted


class At(Form):
    """A time of day, on some days."""

    time: str = Field(..., pattern=r"^([01]\d|2[0-3]):[0-5]\d$", description="Such as 07:30, in the zone of the flow.")
    on: Literal["day", "weekday", "monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday", "month"] = Field(
        "day", description="Every day, every weekday (Monday to Friday), a day of the week, or once a month."
    )
    day: int = Field(1, ge=1, le=28, description="Of a month: its day.")

    @property
    def cron(self) -> str:
        """The same as a cron expression."""
        hour, minute = self.time.split(":")
        days = {"day": "* * *", "weekday": "* * 1-5", "month": f"{self.day} * *"}
        return f"{int(minute)} {int(hour)} {days.get(self.on) or f'* * {(DAYS.index(self.on) + 1) % 7}'}"


class Schedule(Coming):
    """At certain times. `item.data.at` is the time that it is for; with rows, `item.data` is the row."""

    called = ("cron", "timer", "time")

    cron: str | None = Field(
        None, max_length=100, description="A cron expression of five fields: minute, hour, day of the month, month, day of the week."
    )
    at: At | None = Field(None, description="Or a time of day on some days.")
    missed: Literal["once", "skip"] = Field("once", description="Times that were missed while the service stood still: caught up once, or skipped.")
    rows: Rows | None = Field(None, description="For each of these rows an item: those that are new, that changed, or all.")

    @model_validator(mode="after")
    def _one_way(self) -> Schedule:
        if (self.cron is None) == (self.at is None):
            raise ValueError("Say when: by a cron expression, or by `at`, one of them.")
        try:
            if len(self.expression.split()) != 5:
                raise ValueError("A cron expression has five fields, such as `30 7 * * 1-5`.")
            CronSim(self.expression, datetime(2026, 1, 1))
        except CronSimError as error:
            raise ValueError(f"{self.cron!r} is no cron expression, such as `30 7 * * 1-5`: {error}.") from error
        return self

    @property
    def expression(self) -> str:
        """When, as a cron expression."""
        return self.cron if self.cron is not None else self.at.cron if self.at is not None else ""


class ScheduleSource(Quiet):
    """The times of a schedule. The cursor is the moment up to which they were gone through."""

    every = 0.5

    def __init__(self, said: Schedule, here: Here) -> None:
        self.said = said
        self._zone: ZoneInfo = here.zone or ZoneInfo("UTC")
        self._rows = RowSource(said.rows, here) if said.rows is not None else None
        self._next: tuple[int, int] | None = None  # after which moment the next time is which

    def test(self) -> str:
        times = ", ".join(f"{each:%a %Y-%m-%d %H:%M}" for each in self.coming(datetime.now(UTC)))
        return f"The next times: {times}. {self._rows.test() if self._rows is not None else ''}".strip()

    def coming(self, after: datetime) -> list[datetime]:
        """The next times, in the zone of the flow."""
        return [each for each, _ in zip(self._times(after), range(SHOWN), strict=False)]

    def there(self) -> Iterator[Thing]:
        if self._rows is not None:
            yield from self._rows.there()

    def new(self, cursor: Any, moment: int) -> Iterator[Thing]:
        if cursor is None:  # it begins now
            yield Thing("", "", moment, cursor={"until": moment}, taken=True)
            return
        until = int(cursor["until"])
        if self._next is not None and self._next[0] == until and self._next[1] > moment:
            return
        due: list[datetime] = []
        count = 0
        for each in self._times(datetime.fromtimestamp(until / 1000, UTC)):
            if each.timestamp() * 1000 > moment:
                self._next = (until, int(each.timestamp() * 1000))
                break
            due, count = [each], count + 1  # the last of them stands for those that were missed
            if count >= MOST:
                break
        if not due:
            return
        late = moment - due[0].timestamp() * 1000
        if self.said.missed == "skip" and late > 60_000:
            yield Thing("", "", moment, cursor={"until": moment}, taken=True)
            return
        yield from self._things(due[0], count - 1, until)

    def _things(self, time_: datetime, missed: int, until: int) -> Iterator[Thing]:
        at = int(time_.timestamp() * 1000)
        shown, done = time_.isoformat(timespec="minutes"), {"until": at}
        if self._rows is None:
            yield Thing(f"at {shown}", f"{time_:%Y-%m-%d %H.%M}", at, 0, {"at": shown, "missed": missed}, cursor=done)
            return
        each_time = self._rows.said.which == "all"
        things = list(self._rows.things(f"at {shown} " if each_time else ""))
        for number, each in enumerate(things):
            yield Thing(each.identity, each.name, at, 0, each.data, cursor=done if number == len(things) - 1 else {"until": until})
        if not things:
            yield Thing("", "", at, cursor=done, taken=True)

    def get(self, thing: Thing) -> list[Piece]:
        return [Piece(f"{thing.name}.json", dumps(thing.data))]

    def _times(self, after: datetime) -> Iterator[datetime]:
        """The times after a moment. The library may give one that is not after it where clocks go back."""
        for each in CronSim(self.said.expression, after.astimezone(self._zone)):
            if each.astimezone(UTC) > after.astimezone(UTC):
                yield each


def _tell(said: Schedule) -> str:
    if said.at is not None:
        on = {"day": "every day", "weekday": "on weekdays", "month": f"on day {said.at.day} of each month"}.get(said.at.on, f"every {said.at.on}")
        when = f"{on} at {said.at.time}"
    else:
        when = f"at the times of {said.cron}"
    return f"{when}, for each row of {said.rows.path or said.rows.table}" if said.rows is not None else when


def _touches(said: Schedule, home: Path) -> Touched | None:
    return touched_by(said.rows, home) if said.rows is not None else None


KIND = IntakeKind(
    "schedule",
    Schedule,
    _tell,
    lambda said, home: said.expression,
    ScheduleSource,
    _touches,
    quick=True,
    gives="With `rows` the row, by the heads of its columns; else `at`, the time that it is for (RFC 3339), and `missed`, how many times were missed before it.",
)
