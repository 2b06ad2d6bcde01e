"""A calendar (iCalendar, RFC 5545) at an address or in a file: each event once, when it has ended."""

from __future__ import annotations

import hashlib
import itertools
import warnings
from collections.abc import Iterator
from datetime import UTC, date, datetime, time, timedelta
from pathlib import Path
from time import monotonic
from typing import Any
from zoneinfo import ZoneInfo

import icalendar
from dateutil.rrule import rruleset, rrulestr
from pydantic import Field, model_validator

from metrikon.core.flows.coming import Gathered
from metrikon.core.flows.form import ConnectionName
from metrikon.core.values.text import clean
from metrikon.intakes.fetched import page
from metrikon.ports.intake import Here, IntakeFailed, IntakeKind, Piece, Quiet, Thing
from metrikon.ports.touching import Touched

MOST, LOOKED = 2000, 20_000  # occurrences of one event that are given; that are looked at
FOLLOWED = ("DAILY", "WEEKLY", "MONTHLY", "YEARLY")
LONGEST = 10.0  # seconds that rules may take to work out
BACK = timedelta(days=366)  # how far back the occurrences of an event that repeats are told


class Calendar(Gathered):
    """Events of a calendar that have ended."""

    url: str | None = Field(None, max_length=2000, description="Its address; with a connection what comes after the address of that.")
    path: str | None = Field(None, max_length=1000, description="Or its file; relative paths start at the service's folder.")
    connection: ConnectionName | None = Field(None, description="Name of a connection, by which it is signed in.")
    after: float = Field(0.0, ge=0, le=10_080, description="Minutes after its end that an event is taken.")
    every: float = Field(300.0, ge=5, le=86_400, description="Seconds after which it is looked at anew.")

    @model_validator(mode="after")
    def _one_place(self) -> Calendar:
        if (self.url is None) == (self.path is None):
            raise ValueError("Give an address (url) or a file (path), one of them.")
        return self


class CalendarSource(Quiet):
    """The events of a calendar that have ended; events that repeat once for each time."""

    def __init__(self, said: Calendar, here: Here) -> None:
        self.said, self._here = said, here
        self.every = said.every
        self._zone: ZoneInfo = here.zone or ZoneInfo("UTC")

    def test(self) -> str:
        events = self._events()
        count = len({str(each.get("uid")) for each in events})
        return f"{self.said.url or self.said.path} is a calendar with {count} event{'s' if count != 1 else ''}."

    def there(self) -> Iterator[Thing]:
        yield from sorted(self._ended(datetime.now(UTC)), key=lambda each: -each.at)

    def new(self, cursor: Any, moment: int) -> Iterator[Thing]:
        yield from sorted(self._ended(datetime.fromtimestamp(moment / 1000, UTC)), key=lambda each: each.at)

    def get(self, thing: Thing) -> list[Piece]:
        made = icalendar.Calendar()
        made.add("prodid", "-//Metrikon//EN")
        made.add("version", "2.0")
        made.add_component(thing.key)
        return [Piece(thing.name, made.to_ical())]

    def _ended(self, now: datetime) -> Iterator[Thing]:
        events = self._events()
        moved = {key for each in events if "recurrence-id" in each and (key := self._moved(each)) is not None}
        limit, until = now - timedelta(minutes=self.said.after), monotonic() + LONGEST
        for event in events:
            if monotonic() > until:
                raise IntakeFailed(
                    f"The rules of {self.said.url or self.said.path} take more than {LONGEST:g} seconds to work out. Say `since`, or mend them."
                )
            try:
                times = [(start, start + self._lasts(event)) for start in self._starts(event, limit)]
            except (ValueError, TypeError, AttributeError, OverflowError):
                continue  # it says no time that can be understood
            for start, end in times:
                again = "recurrence-id" not in event and (str(event.get("uid")), start) in moved  # this time was moved, and stands by itself
                if end <= limit and not again and str(event.get("status", "")).upper() != "CANCELLED":
                    yield self._thing(event, start, end)

    def _moved(self, event: Any) -> tuple[str, datetime] | None:
        """The time of an event that repeats in whose place another stands."""
        try:
            return str(event.get("uid")), _moment(event["recurrence-id"].dt, self._zone)
        except (ValueError, TypeError, AttributeError, OverflowError):
            return None

    def _thing(self, event: Any, start: datetime, end: datetime) -> Thing:
        title = clean(str(event.get("summary", "")))[:200]
        people = event.get("attendee", [])
        told = {
            "uid": str(event.get("uid", ""))[:500],
            "title": title,
            "start": start.astimezone(self._zone).isoformat(timespec="minutes"),
            "end": end.astimezone(self._zone).isoformat(timespec="minutes"),
            "place": clean(str(event.get("location", "")))[:500],
            "url": clean(str(event.get("url", "")))[:1000],
            "description": clean(str(event.get("description", "")))[:4000],
            "organizer": _person(event.get("organizer")),
            "people": [_person(each) for each in (people if isinstance(people, list) else [people])][:200],
        }
        identity = hashlib.sha256(f"{told['uid']}\n{start.astimezone(UTC).isoformat()}".encode()).hexdigest()[:40]
        return Thing(identity, f"{title or 'event'}.ics", int(end.timestamp() * 1000), 0, told, key=event)

    def _starts(self, event: Any, limit: datetime) -> Iterator[datetime]:
        """When an event began, each time up to a limit; of the latest year where it repeats."""
        if "dtstart" not in event:
            return
        first = _moment(event["dtstart"].dt, self._zone)
        if "rrule" not in event and "rdate" not in event:
            yield first
            return
        every = rruleset()
        try:
            rules = event.get("rrule", [])
            for rule in rules if isinstance(rules, list) else [rules]:
                every.rrule(_bounded(rule, first, limit))
            for name, add in (("rdate", every.rdate), ("exdate", every.exdate)):
                given = event.get(name, [])
                for each in given if isinstance(given, list) else [given]:
                    for one in each.dts:
                        add(_moment(one.dt, self._zone))
            since = self.said.since
            begin = datetime.combine(since, time(), self._zone) if since is not None else limit - BACK
            found = itertools.takewhile(lambda each: each <= limit, itertools.islice(every, LOOKED))
            yield from itertools.islice((each for each in found if each >= begin), MOST)
        except (ValueError, TypeError, AttributeError, OverflowError):
            yield first  # its rule is none that can be understood

    def _lasts(self, event: Any) -> timedelta:
        try:
            if "dtend" in event:
                return max(timedelta(0), _moment(event["dtend"].dt, self._zone) - _moment(event["dtstart"].dt, self._zone))
            if "duration" in event:
                lasts: timedelta = event["duration"].dt
                return max(timedelta(0), lasts)
        except (TypeError, AttributeError, OverflowError):
            return timedelta(0)
        return timedelta(0) if isinstance(event["dtstart"].dt, datetime) else timedelta(days=1)

    def _events(self) -> list[Any]:
        data = self._data()
        try:
            read = icalendar.Calendar.from_ical(data)
        except (ValueError, IndexError, KeyError, TypeError, AttributeError) as error:
            raise IntakeFailed(f"{self.said.url or self.said.path} is no calendar (iCalendar): {str(error)[:200]}.") from error
        return list(read.walk("VEVENT"))

    def _data(self) -> bytes:
        if self.said.path is not None:
            path = self._here.home / self.said.path
            try:
                if path.stat().st_size > self._here.largest:
                    raise IntakeFailed(f"{path} is larger than {self._here.largest / 1e6:.0f} MB (setting max_bytes).")
                return path.read_bytes()
            except OSError as error:
                raise IntakeFailed(f"{path} cannot be read: {error.strerror}.") from error
        return page(self._here.calling, self.said.connection, self.said.url or "", self._here.largest).data or b""


def _bounded(rule: Any, first: datetime, limit: datetime) -> Any:
    """A rule up to a limit, so that one which never holds comes to an end. Raises ValueError for one that is not followed."""
    if str((rule.get("FREQ") or [""])[0]).upper() not in FOLLOWED or any(int(each) < 1 for each in rule.get("INTERVAL", [1])):
        raise ValueError("It is not followed.")
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # a limit besides a count is no standard, and meant here
        return rrulestr(rule.to_ical().decode(), dtstart=first).replace(until=max(limit, first))


def _moment(value: Any, zone: ZoneInfo) -> datetime:
    """A date or a time as a moment; one without a zone is of the flow's."""
    if isinstance(value, datetime):
        return value if value.tzinfo is not None else value.replace(tzinfo=zone)
    if isinstance(value, date):
        return datetime.combine(value, time(), zone)
    raise TypeError("It is no date.")


def _person(given: Any) -> dict[str, str]:
    if given is None:
        return {"name": "", "address": ""}
    named = getattr(given, "params", {}).get("CN", "")
    return {"name": clean(str(named))[:200], "address": clean(str(given)).removeprefix("mailto:").removeprefix("MAILTO:").lower()[:320]}


def _touches(said: Calendar, home: Path) -> Touched | None:
    return Touched(home / said.path) if said.path is not None else None


GIVES = {
    "uid": "The id of the event.",
    "title": "Its title.",
    "start": "When it began, with the offset of the zone of the flow.",
    "end": "When it ended.",
    "place": "Where it was.",
    "url": "Its address.",
    "description": "What is said of it.",
    "organizer": "Who called it.",
    "people": "Who was invited, a list.",
}
KIND = IntakeKind(
    "calendar",
    Calendar,
    lambda said: f"events that have ended, of the calendar {said.url or said.path}",
    lambda said, home: str(said.url or home / str(said.path)),
    CalendarSource,
    _touches,
    reaches=True,
    gives=GIVES,
)
