"""Feeds, lists in JSON and calendars: each entry once, whatever is dropped, returned, paged or repeated."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from email.utils import format_datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest

from metrikon.app.assemble import App
from metrikon.core.flows.model import Flow, Said
from metrikon.intakes.calendar import Calendar, CalendarSource
from metrikon.intakes.feed import Feed, FeedSource
from metrikon.intakes.poll import Poll, PollSource
from metrikon.ports.intake import Here, IntakeFailed
from tests.intakes.contract import DAY, FLOW, IntakeContract, Place, _items, _restarted, _taken
from tests.intakes.served import Served


@pytest.fixture
def served() -> Iterator[Served]:
    server = Served()
    yield server
    server.end()


class _Web(Place):
    def __init__(self, served: Served) -> None:
        self.served = served
        self.entries: list[tuple[int, datetime]] = []
        served.pages["/what"] = lambda query: self.page(query)
        self.said = f', url: "{served.url}/what"'

    def page(self, query: dict[str, str]) -> tuple[str, bytes, dict[str, str]]:
        raise NotImplementedError

    def add(self, number: int, at: datetime) -> None:
        self.entries.append((number, at))

    def break_off(self) -> Callable[[], None]:
        self.served.status = 500

        def mend() -> None:
            self.served.status = 0

        return mend


class Rss(_Web):
    kind = "feed"

    def condition(self, number: int) -> str:
        return f'item.data.title != "Letter {number}"'

    def page(self, query: dict[str, str]) -> tuple[str, bytes, dict[str, str]]:
        entries = "".join(
            f"<item><guid>{n}</guid><title>Letter {n}</title><link>https://garden.example/{n}</link><pubDate>{format_datetime(at)}</pubDate>"
            f"<description>Dear garden &amp;lt;{n}&amp;gt;</description></item>"
            for n, at in self.entries
        )
        return "application/rss+xml", f'<rss version="2.0"><channel><title>Garden</title>{entries}</channel></rss>'.encode(), {}


class Candidates(_Web):
    kind = "poll"

    def __init__(self, served: Served) -> None:
        super().__init__(served)
        self.said = f', url: "{served.url}/what?page=${{number}}&since=${{cursor}}", list: page.candidates, id: entry.id, at: entry.applied, cursor: entry.applied'

    def condition(self, number: int) -> str:
        return f"item.data.id != {number}"

    def page(self, query: dict[str, str]) -> tuple[str, bytes, dict[str, str]]:
        wanted = [{"id": n, "applied": at.isoformat(), "cost": 0.1} for n, at in self.entries if at.isoformat() >= query["since"]]
        start = (int(query["page"]) - 1) * 2
        return "application/json", json.dumps({"candidates": wanted[start : start + 2]}).encode(), {}


class Meetings(_Web):
    kind = "calendar"

    def condition(self, number: int) -> str:
        return f'item.data.title != "Meeting {number}"'

    def page(self, query: dict[str, str]) -> tuple[str, bytes, dict[str, str]]:
        events = "".join(
            f"BEGIN:VEVENT\r\nUID:{n}@garden.example\r\nSUMMARY:Meeting {n}\r\nDTSTART:{at:%Y%m%dT%H%M%SZ}\r\nDURATION:PT30M\r\nEND:VEVENT\r\n"
            for n, at in self.entries
        )
        return "text/calendar", f"BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//garden//EN\r\n{events}END:VCALENDAR\r\n".encode(), {}


class TestFeed(IntakeContract):
    @pytest.fixture
    def place(self, served: Served) -> Place:
        return Rss(served)


class TestPoll(IntakeContract):
    @pytest.fixture
    def place(self, served: Served) -> Place:
        return Candidates(served)


class TestCalendar(IntakeContract):
    @pytest.fixture
    def place(self, served: Served) -> Place:
        return Meetings(served)


@pytest.fixture
def app(house: Callable[..., App]) -> App:
    return house(fetch_private=True)


def _put(app: App, kind: str, more: str) -> tuple[Flow, Said]:
    app.catalog.put_flow(FLOW % (kind, more))
    flow = app.catalog.newest_flow("letters")
    return flow, flow.intakes[0]


def test_a_feed_that_drops_and_returns_entries_gives_each_once_and_is_sent_again_only_where_it_changed(app: App, served: Served) -> None:
    place = Rss(served)
    flow, said = _put(app, "feed", place.said)
    for number in range(3):
        place.add(number, DAY)
    _taken(app, flow, said, 3)
    app.watching.look(flow, said)
    assert served.seen[-1][1] == 304
    kept, place.entries = place.entries, []
    assert app.watching.look(flow, said).count == 0
    place.entries = kept
    _restarted(app)
    assert app.watching.look(flow, said).count == 0
    assert len(_items(app)) == 3


ATOM = """<feed xmlns="http://www.w3.org/2005/Atom"><title>G</title><entry><id>urn:1</id><title>Ferns</title><link href="https://g.example/1"/>
<updated>2026-11-03T12:00:00Z</updated><author><name>Ada</name></author><content type="html">&lt;p&gt;All about ferns&lt;/p&gt;</content></entry></feed>"""
JSON_FEED = {
    "version": "https://jsonfeed.org/version/1.1",
    "title": "G",
    "items": [
        {
            "id": "1",
            "title": "Ferns",
            "url": "https://g.example/1",
            "date_published": "2026-11-03T12:00:00Z",
            "authors": [{"name": "Ada"}],
            "content_html": "<p>All about ferns</p>",
        }
    ],
}


class Calling:
    """What is fetched, without a network."""

    def __init__(self, data: bytes, links: str = "") -> None:
        self.data, self.links = data, links

    def fetch(self, wanted: Any) -> Any:
        from metrikon.connections.fetching import Fetched

        return Fetched(wanted.url, 200, "", "", self.data, {}, self.links)


@pytest.mark.parametrize("data", [ATOM.encode(), json.dumps(JSON_FEED).encode()])
def test_atom_and_json_feeds_give_the_same_entry(data: bytes) -> None:
    source = FeedSource(Feed(url="https://g.example/feed"), Here(Path(), 10**6, Calling(data)))
    (thing,) = source.there()
    assert (thing.data["title"], thing.data["link"], thing.data["author"], thing.data["published"]) == (
        "Ferns",
        "https://g.example/1",
        "Ada",
        "2026-11-03T12:00:00+00:00",
    )
    assert b"All about ferns" in source.get(thing)[0].data


@pytest.mark.parametrize(
    "data", [b"", b"<html>no feed</html>", b"{}", b"{", b'{"version": "https://jsonfeed.org/version/1", "items": 5}', b"\x00\xff" * 50]
)
def test_what_is_no_feed_is_told_in_words(data: bytes) -> None:
    source = FeedSource(Feed(url="https://g.example/feed"), Here(Path(), 10**6, Calling(data)))
    with pytest.raises(IntakeFailed, match=r"no feed|no JSON Feed"):
        list(source.new(None, 0) if data else source.there())


def test_a_feed_full_of_entities_costs_nothing() -> None:
    bomb = '<!DOCTYPE x [<!ENTITY a "aaaaaaaaaa">' + "".join(
        f'<!ENTITY {b} "&{a};&{a};&{a};&{a};&{a};&{a};&{a};&{a};&{a};">' for a, b in zip("abcdefgh", "bcdefghi", strict=True)
    )
    data = f"{bomb}]><rss version='2.0'><channel><item><title>&i;</title><guid>1</guid></item></channel></rss>".encode()
    found = list(FeedSource(Feed(url="https://g.example"), Here(Path(), 10**6, Calling(data))).there())
    assert all(len(each.name) < 200 for each in found)


def test_pages_are_followed_by_a_link_header(served: Served) -> None:
    source = PollSource(Poll(url="https://g.example/list"), Here(Path(), 10**6, Calling(b'[{"id": 1}]', '<https://g.example/list>; rel="next"')))
    assert [each.data for each in source.there()] == [{"id": 1}], "an address that leads to itself is not gone through for ever"


@pytest.mark.parametrize(
    ("data", "told"),
    [(b"<html>", "is no JSON"), (b'{"a": 1}', "holds no list"), (b'[{"name": "x"}]', "gives nothing for an entry"), (b"5", "holds no list")],
)
def test_what_is_no_list_is_told_in_words(data: bytes, told: str) -> None:
    with pytest.raises(IntakeFailed, match=told):
        list(PollSource(Poll(url="https://g.example/list"), Here(Path(), 10**6, Calling(data))).there())


WEEKLY = """BEGIN:VCALENDAR\r
VERSION:2.0\r
PRODID:-//garden//EN\r
BEGIN:VEVENT\r
UID:weekly@garden.example\r
SUMMARY:Trustees\r
DTSTART;TZID=Europe/Vienna:20261001T090000\r
DTEND;TZID=Europe/Vienna:20261001T100000\r
RRULE:FREQ=WEEKLY;COUNT=5\r
EXDATE;TZID=Europe/Vienna:20261008T090000\r
END:VEVENT\r
BEGIN:VEVENT\r
UID:weekly@garden.example\r
RECURRENCE-ID;TZID=Europe/Vienna:20261015T090000\r
SUMMARY:Trustees in the palm house\r
DTSTART;TZID=Europe/Vienna:20261016T140000\r
DTEND;TZID=Europe/Vienna:20261016T150000\r
END:VEVENT\r
BEGIN:VEVENT\r
UID:off@garden.example\r
SUMMARY:Cancelled\r
STATUS:CANCELLED\r
DTSTART:20261002T090000Z\r
END:VEVENT\r
END:VCALENDAR\r
"""


def _ended(data: bytes, moment: datetime, **more: Any) -> list[tuple[str, str]]:
    source = CalendarSource(Calendar(url="https://g.example/c.ics", **more), Here(Path(), 10**6, Calling(data), ZoneInfo("Europe/Vienna")))
    return [(each.data["title"], each.data["start"]) for each in source.new(None, int(moment.timestamp() * 1000))]


def test_each_time_of_an_event_that_repeats_is_one_with_what_was_moved_or_left_out() -> None:
    assert _ended(WEEKLY.encode(), datetime(2026, 11, 27, tzinfo=UTC)) == [
        ("Trustees", "2026-10-01T09:00+02:00"),
        ("Trustees in the palm house", "2026-10-16T14:00+02:00"),
        ("Trustees", "2026-10-22T09:00+02:00"),
        ("Trustees", "2026-10-29T09:00+01:00"),
    ], "the clocks went back in between, and the meeting stays at nine"


def test_an_event_is_taken_when_it_has_ended_and_not_before() -> None:
    end = datetime(2026, 10, 1, 8, tzinfo=UTC)
    assert _ended(WEEKLY.encode(), end.replace(hour=7, minute=59)) == []
    assert len(_ended(WEEKLY.encode(), end)) == 1
    assert _ended(WEEKLY.encode(), end, after=15) == []
    assert len(_ended(WEEKLY.encode(), end.replace(minute=15), after=15)) == 1


@pytest.mark.parametrize(
    "event",
    [
        "DTSTART:20200101T000000Z\r\nRRULE:FREQ=SECONDLY",
        "DTSTART:20200101T000000Z\r\nRRULE:FREQ=DAILY;INTERVAL=0",
        "DTSTART:20200101T000000Z\r\nRRULE:FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30",
        "DTSTART:20200101T000000Z\r\nRRULE:FREQ=YEARLY;COUNT=5;BYMONTH=2;BYMONTHDAY=30",
        "DTSTART:20200101T000000Z\r\nRRULE:NONSENSE",
        "DTSTART:20200101T000000Z\r\nDURATION:-P5D",
        "DTSTART:nonsense",
        "SUMMARY:no start at all",
        "DTSTART;VALUE=DATE:20261001\r\nDTEND:20261001T100000Z",
    ],
)
def test_hostile_events_hold_up_nothing(event: str) -> None:
    data = f"BEGIN:VCALENDAR\r\nVERSION:2.0\r\nBEGIN:VEVENT\r\nUID:x\r\n{event}\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
    try:
        found = _ended(data.encode(), datetime(2026, 11, 27, tzinfo=UTC))
    except IntakeFailed as error:
        assert "is no calendar" in str(error)
    else:
        assert len(found) <= 2000


def test_a_calendar_in_a_file_is_looked_at_where_its_folder_is_allowed(app: App) -> None:
    (app.home / "trustees.ics").write_text(WEEKLY)
    flow, said = _put(app, "calendar", ", path: trustees.ics")
    _taken(app, flow, said, 4)
