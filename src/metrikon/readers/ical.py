"""What a calendar file says of its events in a form that people read: people by name, times with their zone, the days of what repeats."""

from __future__ import annotations

import itertools
import warnings
from collections.abc import Iterator
from datetime import date, datetime, timedelta
from typing import Any

import icalendar
from dateutil.rrule import rruleset, rrulestr

from metrikon.core.documents.model import Fact
from metrikon.core.values.text import clean

SOURCE = "icalendar"
MOST_DAYS = 60  # days of an event that repeats which are shown
HORIZON = timedelta(days=1830)  # five years: as far as anybody looks ahead in an invitation
SURE_DAY = 28  # a day that every month has
SIMPLE = {"FREQ", "INTERVAL", "COUNT", "UNTIL", "BYDAY", "BYMONTH", "BYMONTHDAY", "WKST"}  # parts of a rule that is followed
FOLLOWED = ("DAILY", "WEEKLY", "MONTHLY", "YEARLY")  # what repeats by the second makes no list of days
_STATUS = {"ACCEPTED": "accepted", "DECLINED": "declined", "TENTATIVE": "tentative", "NEEDS-ACTION": "no answer", "DELEGATED": "delegated"}
_ROLE = {"CHAIR": "chair", "REQ-PARTICIPANT": "required", "OPT-PARTICIPANT": "optional", "NON-PARTICIPANT": "for information"}


def event_facts(text: str) -> list[Fact]:
    """Facts about every event of a calendar (RFC 5545) beside its own lines; none where it cannot be taken apart."""
    try:
        calendar = icalendar.Calendar.from_ical(text)
        events = list(calendar.walk("VEVENT"))
        return [fact for number, event in enumerate(events, 1) for fact in _event(event, f"/VCALENDAR/VEVENT[{number}]")]
    except (ValueError, IndexError, KeyError, TypeError, AttributeError, OverflowError):
        return []


def _event(event: Any, path: str) -> Iterator[Fact]:
    start, end = _when(event, "dtstart"), _when(event, "dtend")
    for name, label, when in (("start", "Starts", start), ("end", "Ends", end)):
        if when is not None:
            yield Fact(SOURCE, f"{path}/{name}", label, _written(when))
    if isinstance(start, datetime) and isinstance(end, datetime) and end > start:
        yield Fact(SOURCE, f"{path}/minutes", "Duration", f"{int((end - start).total_seconds() // 60)} minutes")
    if start is not None and (days := _days(event, start)):
        yield Fact(SOURCE, f"{path}/days", "On", ", ".join(days))
    if "organizer" in event:
        yield Fact(SOURCE, f"{path}/organizer", "Organized by", _person(event["organizer"]))
    people = event.get("attendee", [])
    for number, person in enumerate(people if isinstance(people, list) else [people], 1):
        yield Fact(SOURCE, f"{path}/people/{number}", "Invited", _invited(person))
    for alarm in event.walk("VALARM"):
        before = getattr(alarm.get("trigger"), "dt", None)
        if isinstance(before, timedelta):
            yield Fact(SOURCE, f"{path}/alarm", "Reminder", f"{int(-before.total_seconds() // 60)} minutes before")


def _when(event: Any, name: str) -> date | datetime | None:
    return getattr(event.get(name), "dt", None)


def _written(when: date | datetime) -> str:
    return when.isoformat() if isinstance(when, datetime) else when.isoformat()[:10]


def _person(person: Any) -> str:
    """A name with its address."""
    address = clean(str(person)).removeprefix("mailto:").removeprefix("MAILTO:")
    name = clean(str(person.params.get("CN", "")))
    return f"{name} <{address}>" if name else address


def _invited(person: Any) -> str:
    kind = str(person.params.get("CUTYPE", "")).lower()
    told = [
        _person(person),
        _STATUS.get(str(person.params.get("PARTSTAT", "NEEDS-ACTION")).upper(), ""),
        kind if kind in ("room", "resource", "group") else _ROLE.get(str(person.params.get("ROLE", "REQ-PARTICIPANT")).upper(), ""),
    ]
    return ", ".join(part for part in told if part)


def _followed(rule: Any) -> bool:
    """Whether the days of a rule are listed: not of one that may never hold, such as each 30 February, for which one would look for ever."""
    days = [abs(int(each)) for each in rule.get("BYMONTHDAY", [])]
    rare = "BYMONTH" in rule and any(each > SURE_DAY for each in days)
    return str((rule.get("FREQ") or [""])[0]).upper() in FOLLOWED and set(rule) <= SIMPLE and not rare


def _bounded(rule: Any, first: datetime) -> Any:
    """A rule up to a horizon or its own end."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # an end besides a count is no standard, and meant here
        parsed = rrulestr(rule.to_ical().decode(), dtstart=first)
        own = getattr(parsed, "_until", None)
        horizon = first + HORIZON
        return parsed.replace(until=min(own, horizon) if own else horizon)


def _days(event: Any, start: date | datetime) -> list[str]:
    """The days of an event that repeats, without those that are left out."""
    if "rrule" not in event and "rdate" not in event:
        return []
    first = start if isinstance(start, datetime) else datetime(start.year, start.month, start.day)
    every = rruleset()
    rules = event.get("rrule", [])
    for rule in rules if isinstance(rules, list) else [rules]:
        if not _followed(rule):
            return []
        every.rrule(_bounded(rule, first))
    for name, add in (("rdate", every.rdate), ("exdate", every.exdate)):
        given = event.get(name, [])
        for each in given if isinstance(given, list) else [given]:
            for one in each.dts:
                add(one.dt if isinstance(one.dt, datetime) else datetime(one.dt.year, one.dt.month, one.dt.day))
    return [each.date().isoformat() for each in itertools.islice(every, MOST_DAYS)]
