"""Rooms of a chat and folders on a server, against the stand-ins and a real WebDAV server; and the stand-ins failing in every way."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path

import httpx
import pytest

from metrikon.app.assemble import App
from metrikon.core.flows.connecting import Way
from metrikon.core.flows.model import Flow, Said
from metrikon.ports.intake import IntakeFailed
from metrikon.sandbox import chat
from metrikon.sandbox.services import Services
from tests.dav import SECRET, USER, DavServer
from tests.helpers import Running, eventually
from tests.intakes.contract import FLOW, IntakeContract, Place, _items, _restarted, _taken


@pytest.fixture
def services() -> Iterator[Services]:
    made = Services().start()
    yield made
    made.stop()


class Room(Place):
    kind, said = "chat", ', connection: chat, rooms: ["#receipts:sandbox"]'

    def __init__(self, services: Services) -> None:
        self.services, self.room = services, "!receipts:sandbox"

    def begin(self, app: App) -> None:
        told = app.connections.put("chat", self.services.url, Way("bearer"), chat.TOKEN, "ada", "_matrix/client/v3/account/whoami")
        assert told["failing_since"] is None, told["told"]

    def add(self, number: int, at: datetime) -> None:
        self.services.world.chat.say(self.room, "@ada:sandbox", f"{number} on potting soil")
        self.services.world.chat.rooms[self.room].events[-1]["origin_server_ts"] = int(at.timestamp() * 1000)

    def condition(self, number: int) -> str:
        return f'item.data.text != "{number} on potting soil"'

    def break_off(self) -> Callable[[], None]:
        self.services.world.failing.set("error", 1.0, -1)
        return lambda: self.services.world.failing.set("", 1.0, 0)


class TestChat(IntakeContract):
    @pytest.fixture
    def place(self, services: Services) -> Place:
        return Room(services)


@pytest.fixture
def app(house: Callable[..., App], services: Services) -> App:
    app = house(fetch_private=True)
    Room(services).begin(app)
    return app


def _put(app: App, kind: str, more: str) -> tuple[Flow, Said]:
    app.catalog.put_flow(FLOW % (kind, more))
    flow = app.catalog.newest_flow("letters")
    return flow, flow.intakes[0]


def test_pictures_and_voice_come_as_they_were_sent_and_what_we_said_ourselves_does_not(app: App, services: Services) -> None:
    flow, said = _put(app, "chat", Room.said)
    server = services.world.chat
    server.say("!receipts:sandbox", "@ada:sandbox", "", file=("m.image", "receipt.png", b"\x89PNG a receipt"))
    thread = server.say("!receipts:sandbox", "@ada:sandbox", "", file=("m.audio", "note.ogg", b"OggS a note"))
    server.say("!receipts:sandbox", "@ada:sandbox", "and this belongs to it", thread=thread)
    server.say("!receipts:sandbox", chat.ME, "booked")
    _taken(app, flow, said, 3)
    named = {each["name"]: each for each in _items(app)}
    rows = [named[each] for each in ("receipt.png", "note.ogg", "and this belongs to it.txt")]
    assert len(named) == 3
    with app.database.reading() as connection:
        from metrikon.core.values.exact import loads
        from metrikon.store import items

        data = [loads((items.whole(connection, each["id"]) or {})["data"]) for each in rows]
    assert [each["kind"] for each in data] == ["picture", "recording", "text"]
    assert data[2]["thread"] == thread, "a reply goes to the thread"


def test_only_chosen_people_are_heard(app: App, services: Services) -> None:
    flow, said = _put(app, "chat", Room.said + ', people: ["@ada:sandbox"]')
    for sender in ("@ada:sandbox", "@spam:sandbox"):
        services.world.chat.say("!receipts:sandbox", sender, f"from {sender}")
    _taken(app, flow, said, 1)


def test_an_encrypted_room_and_one_that_is_not_joined_are_refused_in_words(app: App, services: Services) -> None:
    flow, said = _put(app, "chat", ', connection: chat, rooms: ["#trustees:sandbox"]')
    with pytest.raises(IntakeFailed, match="encrypted from end to end"):
        app.watching.test(flow, said)
    services.world.chat.rooms["!receipts:sandbox"].members.clear()
    flow, said = _put(app, "chat", Room.said)
    with pytest.raises(IntakeFailed, match="is not in the room"):
        app.watching.test(flow, said)


def test_a_token_that_is_valid_no_longer_is_told_on_today(running: Callable[..., Running], services: Services) -> None:
    service = running(fetch_private=True)
    service.app.connections.put("chat", services.url, Way("bearer"), "another token", "ada", "_matrix/client/v3/account/whoami")
    service.client.put_flow("letters", FLOW % ("chat", Room.said))
    eventually(lambda: any("token is not valid" in each for each in service.client.today()["problems"]))


class DavFolder(Place):
    kind, said = "remote_folder", ", connection: files, path: inbox, settled: 0"

    def __init__(self, folder: Path) -> None:
        self.root = folder
        (folder / "inbox").mkdir(parents=True)
        self.server = DavServer(folder)

    def begin(self, app: App) -> None:
        told = app.connections.put("files", self.server.url, Way("basic", USER), SECRET, "ada", "")
        assert told["failing_since"] is None, told["told"]

    def add(self, number: int, at: datetime) -> None:
        path = self.root / "inbox" / f"letter {number} ä.txt"
        path.write_text(f"letter {number}")
        os.utime(path, (at.timestamp(), at.timestamp()))

    def condition(self, number: int) -> str:
        return f'item.name != "letter {number} ä.txt"'

    def break_off(self) -> Callable[[], None]:
        self.root.joinpath("inbox").rename(self.root / "renamed")

        def mend() -> None:
            (self.root / "renamed").rename(self.root / "inbox")

        return mend

    def end(self) -> None:
        self.server.end()


class TestRemoteFolder(IntakeContract):
    @pytest.fixture
    def place(self, tmp_path: Path) -> Iterator[Place]:
        made = DavFolder(tmp_path / "dav")
        yield made
        made.end()


def test_files_of_a_server_are_moved_and_an_equal_one_dropped_again_is_a_likely_repeat(house: Callable[..., App], tmp_path: Path) -> None:
    place = DavFolder(tmp_path / "dav")
    try:
        app = house(fetch_private=True)
        place.begin(app)
        flow, said = _put(app, "remote_folder", place.said + ", after: move")
        for number in range(2):
            (place.root / "inbox" / "a.txt").write_text("12 on potting soil")
            _taken(app, flow, said, 1)
            if number == 0:
                assert (place.root / "inbox" / "taken" / "a.txt").exists()
        with app.database.reading() as connection:
            from metrikon.store import listing

            assert sorted(row["state"] for row in listing.run_page(connection).rows) == ["held", "ready"]
    finally:
        place.end()


@pytest.mark.parametrize("kind", ["busy", "error", "cut", "lost"])
def test_a_stand_in_that_fails_is_looked_at_again_and_nothing_is_lost_or_doubled(kind: str, app: App, services: Services) -> None:
    flow, said = _put(app, "chat", Room.said)
    for number in range(5):
        services.world.chat.say("!receipts:sandbox", "@ada:sandbox", f"{number} on potting soil")
    httpx.post(f"{services.url}/failing", json={"kind": kind, "rate": 0.4, "times": 8})
    eventually(lambda: not app.watching.look(flow, said).failed and len(_items(app)) == 5)
    _restarted(app)
    eventually(lambda: not app.watching.look(flow, said).failed)
    assert len(_items(app)) == 5


def test_a_call_posts_three_times_and_only_its_report_is_taken(running: Callable[..., Running], services: Services) -> None:
    service = running()
    text = FLOW.replace("letters", "calls") % ("webhook", ", where: 'item.data.event = \"report\"'")
    service.client.put_flow("calls", text)
    made = service.client.make_address("calls", "webhook")
    world = services.world
    world.target, world.secret = made["address"], made["secret"]
    httpx.post(f"{services.url}/failing", json={"kind": "twice", "times": 3})
    assert world.call() == [202, 202, 202]
    assert len(world.posted) == 6, "each was sent twice"
    (item,) = service.client.items()
    assert service.client.item(item.id)["data"]["call"]["summary"] == "A guided tour is wanted."
    assert service.client.let_go("calls", "webhook")["count"] == 2


def test_each_stand_in_has_a_page_with_what_it_holds_and_buttons(services: Services) -> None:
    http = httpx.Client(base_url=services.url, follow_redirects=True)
    with http:
        for place in ("", "chat", "calls", "recruiting", "recordings", "calendar", "sheet"):
            assert "<h1>" in http.get(f"/{place}").text
        assert "applied" in http.post("/recruiting/new").text
        assert "Trustees" in http.post("/calendar/new", data={"text": "Trustees"}).text
        assert "potting soil" in http.post("/chat/say", data={"text": "12 on potting soil"}).text
        assert "working" in http.post("/recordings/new").text
        for name, kind in (("receipt.png", "image/png"), ("note.ogg", "audio/ogg"), ("bill.pdf", "application/pdf")):
            assert name in http.post("/chat/say", files={"file": (name, b"its bytes", kind)}).text
        sent = [each["content"] for each in services.world.chat.rooms["!receipts:sandbox"].events[-3:]]
        assert [each["msgtype"] for each in sent] == ["m.image", "m.audio", "m.file"]
        assert f"<code>{services.url}/chat</code>" in http.get("/").text, "the first page names the address of each"
        assert f"has the address <code>{services.url}</code>" in http.get("/chat").text
        assert f"GET {services.url}/calendar.ics" in http.get("/calendar").text
        assert http.get("/recordings/rec-1").json()["state"] == "working"


def test_candidates_of_a_recruiting_service_and_meetings_come_by_its_protocols(app: App, services: Services) -> None:
    app.connections.put("jobs", services.url, Way("header", name="X-Api-Key"), "sandbox-key-1", "ada", "recruiting/candidates")
    services.world.apply()
    services.world.apply()
    more = ", connection: jobs, url: 'recruiting/candidates?page=${number}&since=${cursor}', list: page.candidates, at: entry.updated, cursor: entry.updated"
    flow, said = _put(app, "poll", more)
    _taken(app, flow, said, 2)
    services.world.apply()
    _taken(app, flow, said, 1)
    httpx.post(f"{services.url}/calendar/new", data={"text": "Trustees"})
    flow, said = _put(app, "calendar", f", url: '{services.url}/calendar.ics'")
    _taken(app, flow, said, 1)
