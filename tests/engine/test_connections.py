"""Connections: signed in with at their own address and nowhere else, tested when kept, their secrets sealed and shown nowhere."""

from __future__ import annotations

import base64
import json
import logging
import os
import threading
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

import httpx
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from metrikon.app.assemble import App
from metrikon.cli import main
from metrikon.client import NotAllowed, ServiceError
from metrikon.connections.fetching import FetchFailed, Wanted, fetch
from metrikon.connections.sealing import FILE, BadKey, CannotOpen, Sealing, keys_of, new_key, put_keys
from metrikon.connections.signing import Signed
from metrikon.core.flows.connecting import Way, joined, wrong_address
from metrikon.ports.clock import StillClock
from metrikon.sandbox import chat, records
from metrikon.sandbox.services import Services
from metrikon.service.auth import add_token
from metrikon.store import connections
from tests.echoing import echoing, forms_of
from tests.helpers import Running, eventually, run_state, states

SECRET = "saffron-crocus-17"


class Garden(ThreadingHTTPServer):
    """A service that wants to be signed in at; it remembers what it was sent, and can fail."""

    daemon_threads = True

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), _Answers)
        self.url = f"http://127.0.0.1:{self.server_address[1]}"
        self.seen: list[tuple[str, dict[str, str]]] = []
        self.tokens: list[str] = []
        self.down = False
        self.retry_after = ""
        self.lead_to = ""


class _Answers(BaseHTTPRequestHandler):
    server: Garden

    def log_message(self, *_: Any) -> None: ...

    def do_GET(self) -> None:
        self.server.seen.append((self.path, dict(self.headers.items())))
        path, query = urlsplit(self.path).path, parse_qs(urlsplit(self.path).query)
        given = self.headers.get("Authorization", "")
        right = {
            "/bearer/plants": given == f"Bearer {SECRET}",
            "/basic/plants": given == "Basic " + base64.b64encode(f"ada:{SECRET}".encode()).decode(),
            "/header/plants": self.headers.get("X-Garden-Key") == SECRET,
            "/query/plants": query.get("key") == [SECRET],
            "/client/plants": given.removeprefix("Bearer ") in self.server.tokens,
            "/open/plants": True,
        }
        if self.server.lead_to and path.endswith("/away"):
            self._send(302, b"", ("Location", self.server.lead_to))
        elif self.server.down:
            self._send(503, b"down", *([("Retry-After", self.server.retry_after)] if self.server.retry_after else []))
        elif path == "/nowhere":
            self._send(404, b"there is no such page")
        else:
            self._send(200, b'["Rosa", "Ilex"]') if right.get(path) else self._send(401, b"who are you?")

    def do_POST(self) -> None:
        form = parse_qs(self.rfile.read(int(self.headers["Content-Length"])).decode())
        good = self.headers.get("Authorization") == "Basic " + base64.b64encode(f"greenhouse:{SECRET}".encode()).decode()
        if not good or form.get("grant_type") != ["client_credentials"]:
            self._send(401, b'{"error": "invalid_client", "error_description": "The client is not known."}')
            return
        self.server.tokens.append(f"token-{len(self.server.tokens)}")
        self._send(200, json.dumps({"access_token": self.server.tokens[-1], "expires_in": 3600, "scope": form["scope"][0]}).encode())

    def _send(self, status: int, body: bytes, *headers: tuple[str, str]) -> None:
        self.send_response(status)
        for name, value in (("Content-Type", "application/json"), ("Content-Length", str(len(body))), *headers):
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(body)


def serving() -> Garden:
    made = Garden()
    threading.Thread(target=made.serve_forever, daemon=True).start()
    return made


@pytest.fixture
def garden() -> Iterator[Garden]:
    made = serving()
    yield made
    made.shutdown()
    made.server_close()


@pytest.fixture
def service(running: Callable[..., Running]) -> Running:
    return running(fetch_private=True)


FLOW = """
metrikon: 1
name: plants
intakes: [{kind: upload}]
steps:
  - {name: got, fetch: {connection: CONNECTION, url: PATH}}
  - {name: paper, read: {file: "${got.file}"}}
  - {name: end, stop: {reason: "${got.name} has ${got.size} bytes."}}
"""


def kept(service: Running, garden: Garden, way: str, **more: Any) -> dict[str, Any]:
    return service.client.put_connection("plants", f"{garden.url}/{way}", **{"way": way, "secret": SECRET, "probe": "plants", **more})


WAYS: list[tuple[str, dict[str, Any]]] = [
    ("bearer", {}),
    ("basic", {"user": "ada"}),
    ("header", {"sent_as": "X-Garden-Key"}),
    ("query", {"sent_as": "key"}),
    ("client", {"user": "greenhouse", "scope": "plants.read"}),
]


@pytest.mark.parametrize(("way", "more"), WAYS)
def test_a_flow_fetches_by_a_connection_however_one_signs_in(way: str, more: dict[str, Any], service: Running, garden: Garden) -> None:
    more = more | ({"token_url": f"{garden.url}/token"} if way == "client" else {})
    told = kept(service, garden, way, **more)
    assert told["failing_since"] is None, told["told"]
    assert "answered 200" in told["told"]
    assert ("signed in as" in told["told"]) == ("user" in more)
    assert ("may plants.read" in told["told"]) == (way == "client")
    service.client.put_flow("plants", FLOW.replace("CONNECTION", "plants").replace("PATH", "plants"))
    run = service.client.upload("plants", b"go", name="a.txt").run_id
    assert service.client.wait(run).reason == "plants has 16 bytes."
    assert len(garden.tokens) == (1 if way == "client" else 0), "a token is used until it ends"
    _nowhere(service.app, service, run)


def _nowhere(app: App, service: Running, run: str) -> None:
    """The secret stands in nothing that is kept, told or shown."""
    told = [service.client.connections(), service.client.flow("plants"), service.client.run(run), service.client.judged(run)]
    assert SECRET not in json.dumps(told, default=str)
    encoded = base64.b64encode(f"ada:{SECRET}".encode())
    for place in (*app.home.glob("metrikon.db*"), *(each for each in (app.home / "files").rglob("*") if each.is_file())):
        assert SECRET.encode() not in place.read_bytes()
        assert encoded not in place.read_bytes()


def test_a_secret_goes_to_no_other_place_that_its_own_leads_on_to(service: Running, garden: Garden) -> None:
    other = serving()
    garden.lead_to = f"{other.url}/open/plants"
    kept(service, garden, "bearer")
    service.client.put_flow("plants", FLOW.replace("CONNECTION", "plants").replace("PATH", "away"))
    run = service.client.upload("plants", b"go", name="a.txt").run_id
    assert service.client.wait(run).state == "stopped"
    assert [headers.get("Authorization") for path, headers in other.seen] == [None]
    assert ("/bearer/away", f"Bearer {SECRET}") in [(path, headers.get("Authorization")) for path, headers in garden.seen]
    other.shutdown()
    other.server_close()


@pytest.mark.parametrize("path", ["https://elsewhere.example/plants", "//elsewhere.example/plants", "http://127.0.0.1:1/plants"])
def test_what_a_flow_says_cannot_lead_a_connection_elsewhere(path: str, service: Running, garden: Garden) -> None:
    kept(service, garden, "bearer")
    garden.seen.clear()
    service.client.put_flow("plants", FLOW.replace("CONNECTION", "plants").replace("PATH", path))
    run = service.client.upload("plants", b"go", name="a.txt").run_id
    eventually(lambda: run_state(service.app, run)[0] == "parked")
    assert all(urlsplit(each).path.startswith("/bearer") for each, _ in garden.seen)


def test_a_wrong_secret_is_told_at_once_and_on_today_until_it_works(service: Running, garden: Garden) -> None:
    told = kept(service, garden, "bearer", secret="wrong-one")
    assert told["failing_since"] is not None
    assert "answered 401" in told["told"]
    token = kept(service, garden, "client", secret="wrong-one", user="greenhouse", token_url=f"{garden.url}/token", scope="plants.read")
    assert "gave no token to greenhouse: it answered 401, The client is not known." in token["told"]
    assert any("The connection plants fails since" in each for each in service.client._ask("GET", "/api/today")["problems"])
    assert kept(service, garden, "bearer")["failing_since"] is None
    assert service.client._ask("GET", "/api/today")["problems"] == []


def test_a_connection_that_begins_to_fail_is_noted_by_what_calls_and_so_is_its_end(service: Running, garden: Garden) -> None:
    kept(service, garden, "bearer")
    service.client.put_flow("plants", FLOW.replace("CONNECTION", "plants").replace("PATH", "plants").replace("fetch:", "retry: {wait: 0.1}, fetch:"))
    garden.down = True
    run = service.client.upload("plants", b"go", name="a.txt").run_id
    eventually(lambda: service.client.connection("plants")["failing_since"])
    assert "answered 503" in service.client.connection("plants")["told"]
    garden.down = False
    assert service.client.wait(run).state == "stopped"
    assert service.client.connection("plants")["failing_since"] is None


def test_a_page_that_is_not_there_is_no_failing_of_its_connection(service: Running, garden: Garden) -> None:
    service.client.put_connection("connection", garden.url, way="query", secret=SECRET, sent_as="key", probe="query/plants")
    assert "answered 404" in _asked(service.app, "nowhere")
    assert service.client.connection("connection")["failing_since"] is None
    assert "answered 401" in _asked(service.app, "basic/plants")
    assert service.client.connection("connection")["failing_since"] is not None
    assert "answered 404" in _asked(service.app, "nowhere")
    assert service.client.connection("connection")["failing_since"] is None


def _asked(app: App, path: str = "query/plants?season=spring") -> str:
    """What comes of a call by the connection; nothing where it is answered."""
    try:
        app.outside.fetch(Wanted(path, connection="CONNECTION".lower()))
    except FetchFailed as error:
        return str(error)
    return ""


def test_each_call_is_on_record_without_what_was_sent(service: Running, garden: Garden) -> None:
    service.client.put_connection("connection", garden.url, way="query", secret=SECRET, sent_as="key", probe="query/plants")
    assert _asked(service.app) == ""
    garden.down = True
    assert "answered 503" in _asked(service.app)
    found = eventually(lambda: calls if len(calls := service.client.connection_calls("connection")) == 2 else None)
    assert [each["status"] for each in found] == [503, 200]
    assert {each["address"] for each in found} == {f"{garden.url}/query/plants"}, "neither the secret nor other parameters"
    assert SECRET not in json.dumps(found)
    assert main(["connections", "calls", "connection", "--url", service.url, "--token", service.token]) == 0


def test_calls_go_into_the_record_a_few_at_a_time_and_all_of_them_are_there_when_the_service_has_ended(
    house: Callable[..., App], garden: Garden
) -> None:
    app = house(fetch_private=True)
    app.connections.put("connection", garden.url, Way("query", name="key"), SECRET, "ada", "query/plants")
    before = app.database.commits
    for _ in range(30):
        assert _asked(app) == ""
    assert app.database.commits - before < 10
    app.close()
    again = house(fetch_private=True)
    with again.database.reading() as connection:
        assert len(connections.calls_of(connection, "connection", 100)) == 30


def test_a_service_that_asks_to_wait_is_left_alone_for_so_long(house: Callable[..., App], garden: Garden) -> None:
    clock = StillClock()
    app = house(clock=clock, fetch_private=True)
    app.connections.put("connection", garden.url, Way("query", name="key"), SECRET, "ada", "query/plants")
    garden.down, garden.retry_after = True, "40"
    assert "answered 503" in _asked(app)
    seen = len(garden.seen)
    garden.down = False
    assert "asked to wait; 40 seconds are left" in _asked(app)
    assert len(garden.seen) == seen, "it was not called"
    clock.at += 41_000
    assert _asked(app) == ""


def test_a_connection_that_fails_again_and_again_rests_and_one_call_tells_whether_it_is_back(house: Callable[..., App], garden: Garden) -> None:
    clock = StillClock()
    app = house(clock=clock, fetch_private=True)
    app.connections.put("connection", garden.url, Way("query", name="key"), SECRET, "ada", "query/plants")
    garden.down = True
    while "left alone for a while" not in _asked(app):
        assert len(garden.seen) < 20
    seen = len(garden.seen)
    assert "left alone" in _asked(app)
    assert len(garden.seen) == seen
    garden.down = False
    clock.at += 31_000
    assert _asked(app) == ""


def test_a_connection_is_not_led_elsewhere_with_the_secret_that_it_has(service: Running, garden: Garden) -> None:
    kept(service, garden, "bearer")
    with pytest.raises(ServiceError, match="give the secret anew"):
        service.client.put_connection("plants", "http://127.0.0.1:1/other", way="bearer")
    with pytest.raises(ServiceError, match="give the secret anew"):
        service.client.put_connection("plants", f"{garden.url}/query", way="query", sent_as="key")
    assert service.client.put_connection("plants", f"{garden.url}/bearer/", way="bearer", probe="plants")["failing_since"] is None
    with pytest.raises(ServiceError, match="Give the secret: it was not given before"):
        service.client.put_connection("others", f"{garden.url}/bearer", way="bearer")


@pytest.mark.parametrize(
    ("given", "message"),
    [
        ({"address": "ftp://a.example"}, "is no address; give one that begins with https"),
        ({"address": "https://ada:pw@a.example"}, "holds a name or a password"),
        ({"address": "https://a.example/?key=1"}, "holds parameters"),
        ({"address": "https://a.example", "way": "basic", "secret": "x" * 8}, "wants user"),
        ({"address": "https://a.example", "way": "client", "secret": "x" * 8}, "wants user and token_url"),
        ({"address": "https://a.example", "way": "basic", "user": "a:b", "secret": "x" * 8}, "has no colon"),
        ({"address": "https://a.example", "way": "header", "sent_as": "Schlüssel", "secret": "x" * 8}, "the name of a header"),
        ({"address": "https://a.example", "probe": "https://b.example/"}, "is not at https://a.example"),
    ],
)
def test_what_is_no_connection_is_refused_in_words(given: dict[str, Any], message: str, service: Running) -> None:
    with pytest.raises(ServiceError, match=message):
        service.client.put_connection("plants", **given)
    with pytest.raises(ServiceError, match="is no name"):
        service.client.put_connection("Plants!", "https://a.example")


@pytest.mark.parametrize("secret", ["saffron\nX-Evil: 1", "saffron-17 ", "safran-für-alle", "saffron-17\x00"])
@pytest.mark.parametrize("way", ["bearer", "header"])
def test_a_secret_that_cannot_be_sent_is_refused_without_telling_it(secret: str, way: str, service: Running, garden: Garden) -> None:
    with pytest.raises(ServiceError, match="The secret is sent in a header") as told:
        kept(service, garden, way, secret=secret, sent_as="X-Garden-Key" if way == "header" else "")
    assert "saf" not in str(told.value)
    assert service.client.connections() == []


def test_what_the_library_says_of_a_call_that_was_signed_is_not_passed_on(monkeypatch: pytest.MonkeyPatch) -> None:
    def broken(*_: object, **__: object) -> None:
        raise httpx.LocalProtocolError(f"Illegal header value b'{SECRET}'")

    monkeypatch.setattr(httpx.Client, "stream", broken)
    along = Signed(("http", "127.0.0.1", 1), {"Authorization": SECRET})
    with pytest.raises(FetchFailed, match="LocalProtocolError") as told:
        fetch(Wanted("http://127.0.0.1:1/", private=True, signed=along))
    assert SECRET not in str(told.value)


def test_a_flow_names_connections_that_there_are_and_none_that_is_named_is_removed(service: Running, garden: Garden) -> None:
    kept(service, garden, "bearer")
    with pytest.raises(ServiceError, match=r"There is no connection 'plant'\. Is 'plants' meant"):
        service.client.put_flow("plants", FLOW.replace("CONNECTION", "plant").replace("PATH", "plants"))
    service.client.put_flow("plants", FLOW.replace("CONNECTION", "plants").replace("PATH", "plants"))
    assert service.client.connection("plants")["flows"] == ["plants"]
    with pytest.raises(ServiceError, match="The connection plants is named by plants"):
        service.client.remove_connection("plants")
    service.client.put_flow("plants", FLOW.replace("connection: CONNECTION, ", "").replace("PATH", "https://a.example/"))
    service.client.remove_connection("plants")
    assert service.client.connections() == []


def test_what_comes_by_a_connection_is_not_given_to_who_comes_by_none(service: Running, garden: Garden) -> None:
    kept(service, garden, "bearer")
    signed = FLOW.replace("CONNECTION", "plants").replace("PATH", "plants")
    service.client.put_flow("plants", signed)
    service.client.wait(service.client.upload("plants", b"go", name="a.txt").run_id)
    service.client.put_flow("plants", FLOW.replace("connection: CONNECTION, ", "").replace("PATH", f"{garden.url}/bearer/plants"))
    run = service.client.upload("plants", b"go on", name="b.txt").run_id
    eventually(lambda: run_state(service.app, run)[0] == "parked")
    assert "answered 401" in run_state(service.app, run)[1]


def test_private_addresses_are_refused_unless_they_are_allowed(running: Callable[..., Running], garden: Garden) -> None:
    told = kept(running(), garden, "bearer")
    assert "an address of a private network" in told["told"]
    assert garden.seen == []


def test_readers_make_no_connections_and_only_admins_change_the_key(service: Running) -> None:
    from metrikon.client import Client

    for role, name in (("reader", "put_connection"), ("builder", "new_key")):
        _, token = add_token(service.app, role, role=role)
        with Client(service.url, token) as client, pytest.raises(NotAllowed):
            client.put_connection("a", "https://a.example") if name == "put_connection" else client.new_key()


def test_every_secret_is_sealed_with_a_new_key_and_opens_after_a_restart(house: Callable[..., App], garden: Garden) -> None:
    app = house(fetch_private=True)
    app.start()
    for name in ("plants", "seeds"):
        app.connections.put(name, f"{garden.url}/bearer", Way("bearer"), SECRET, "ada", "plants")
    before = (app.home / FILE).read_bytes()
    assert os.stat(app.home / FILE).st_mode & 0o777 == 0o600
    assert app.connections.new_key() == 2
    after = (app.home / FILE).read_bytes()
    assert after != before
    assert len(after.split()) == 1
    assert app.connections.test("seeds")["failing_since"] is None
    app.close()
    again = house(fetch_private=True)
    again.start()
    assert again.connections.test("plants")["failing_since"] is None


def test_a_change_of_keys_that_is_cut_off_loses_no_secret(house: Callable[..., App], garden: Garden, monkeypatch: pytest.MonkeyPatch) -> None:
    app = house(fetch_private=True)
    app.start()
    app.connections.put("plants", f"{garden.url}/bearer", Way("bearer"), SECRET, "ada", "plants")

    def cut(*_: object, **__: object) -> None:
        raise OSError("the power went")

    with monkeypatch.context() as patched:
        patched.setattr(connections, "change", cut)
        with pytest.raises(OSError, match="power"):
            app.connections.new_key()
    assert len((app.home / FILE).read_bytes().split()) == 2
    app.close()
    again = house(fetch_private=True)
    again.start()
    assert again.connections.test("plants")["failing_since"] is None
    assert again.connections.new_key() == 1
    assert again.connections.test("plants")["failing_since"] is None


def test_another_key_opens_nothing_and_says_what_to_do(house: Callable[..., App], garden: Garden) -> None:
    app = house(fetch_private=True)
    app.start()
    app.connections.put("plants", f"{garden.url}/bearer", Way("bearer"), SECRET, "ada", "plants")
    app.close()
    put_keys(app.home, [new_key()])
    again = house(fetch_private=True)
    again.start()
    assert "Bring back secret.key, or give the secret anew" in again.connections.test("plants")["told"]


def test_a_key_may_come_from_the_environment(tmp_path: Path) -> None:
    given = base64.b64encode(b"k" * 32).decode()
    assert keys_of(tmp_path, given) == [b"k" * 32]
    assert not (tmp_path / FILE).exists()
    with pytest.raises(BadKey, match="32 bytes in base64"):
        keys_of(tmp_path, "short")
    for damaged in (b"", b"\xff\xfe no key"):
        (tmp_path / FILE).write_bytes(damaged)
        with pytest.raises(BadKey, match="32 bytes in base64"):
            keys_of(tmp_path)


def test_a_key_that_is_none_is_told_before_anything_begins(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setenv("METRIKON_SECRET_KEY", "short")
    assert main(["serve", "--home", str(tmp_path / "home")]) == 1
    assert "32 bytes in base64" in capsys.readouterr().err


def test_no_secret_stands_in_the_log(service: Running, garden: Garden, caplog: pytest.LogCaptureFixture) -> None:
    caplog.set_level(logging.DEBUG)
    kept(service, garden, "query", sent_as="key")
    kept(service, garden, "basic", user="ada")
    assert SECRET not in caplog.text
    assert base64.b64encode(f"ada:{SECRET}".encode()).decode() not in caplog.text


def test_the_command_keeps_tests_lists_and_removes(
    service: Running, garden: Garden, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    import io

    monkeypatch.setenv("METRIKON_URL", service.url)
    monkeypatch.setenv("METRIKON_TOKEN", service.token)

    def run(*words: str, code: int = 0, secret: str = SECRET) -> str:
        monkeypatch.setattr("sys.stdin", io.StringIO(secret + "\n"))
        assert main(["connections", *words]) == code
        return capsys.readouterr().out

    assert "There is no connection yet." in run("list")
    put = ("put", "plants", f"{garden.url}/header", "--way", "header", "--header", "X-Garden-Key", "--probe", "plants")
    assert "plants: it fails." in run(*put, "--secret-stdin", code=1, secret="wrong-one")
    assert "answered 200" in run(*put, "--secret-stdin")
    assert "answered 200" in run(*put, "--same-secret")
    assert "answered 200" in run("test", "plants")
    assert "header" in run("list")
    assert "1 secrets are sealed with a new key." in run("new-key")
    assert "plants is kept no longer." in run("remove", "plants")
    assert states(service.app) == {}


@given(st.text(min_size=1, max_size=200), st.text(max_size=40), st.text(max_size=40))
@settings(max_examples=60, deadline=None)
def test_what_is_sealed_opens_for_what_it_belongs_to_and_for_nothing_else(secret: str, of: str, other: str) -> None:
    secret = secret.encode("utf-8", "replace").decode()
    of, other = (each.encode("utf-8", "replace").decode() for each in (of, other))
    old, new = new_key(), new_key()
    sealed = Sealing([old]).seal(secret, of)
    assert Sealing([new, old]).open(sealed, of) == secret
    for sealing, wanted in ((Sealing([new]), of), *([(Sealing([old]), other)] if other != of else [])):
        with pytest.raises(CannotOpen):
            sealing.open(sealed, wanted)
    with pytest.raises(CannotOpen):
        Sealing([old]).open(sealed[:-1] + bytes([sealed[-1] ^ 1]), of)


@given(st.text(max_size=60))
@settings(max_examples=200, deadline=None)
def test_no_path_leads_away_from_the_address_of_a_connection(path: str) -> None:
    address = "https://plants.example:8443/api"
    try:
        found = joined(address, path)
    except ValueError:
        return
    assert urlsplit(found).hostname == "plants.example"
    assert urlsplit(found).port == 8443
    assert wrong_address(address) == ""


def test_a_test_says_signed_in_only_where_the_secret_made_a_difference(service: Running, garden: Garden) -> None:
    told = service.client.put_connection("open", f"{garden.url}/open", way="bearer", secret=SECRET, probe="plants")["told"]
    assert "answered 200" in told
    assert "It answers anybody, so that whether the secret is right was not seen" in told
    assert "signed in" not in told.replace("those who are signed in", "")
    assert "signed in by its secret" in kept(service, garden, "bearer")["told"]


def test_a_described_service_is_tested_by_an_operation_that_changes_nothing_and_wants_the_secret(service: Running) -> None:
    services = Services().start()
    try:
        at = f"{services.url}/records"
        service.client.put_connection("crm", at, way="bearer", secret=records.TOKEN)
        service.client.describe_connection("crm", json.dumps(records.DESCRIPTION).encode())
        before = len(services.world.records.calls)
        told = service.client.test_connection("crm")
        assert (told["failing_since"], "The operation listContacts at " in told["told"], "signed in by its secret" in told["told"]) == (
            None,
            True,
            True,
        ), told
        assert services.world.records.calls[before:] == ["GET /records/contacts"]
        wrong = service.client.put_connection("crm", at, way="bearer", secret="another secret")
        assert wrong["failing_since"] is not None
        assert "401" in wrong["told"]
    finally:
        services.stop()


def test_a_chat_is_asked_who_one_is(service: Running) -> None:
    services = Services().start()
    try:
        right = service.client.put_connection("chat", services.url, way="bearer", secret=chat.TOKEN)
        assert (right["failing_since"], right["told"]) == (None, "A chat's server (Matrix) answered; signed in as @metrikon:sandbox.")
        wrong = service.client.put_connection("chat", services.url, way="bearer", secret="another token")
        assert wrong["failing_since"] is not None
    finally:
        services.stop()


def test_calls_that_are_under_way_while_the_key_changes_are_signed_in_all_the_same(service: Running, garden: Garden) -> None:
    kept(service, garden, "bearer")
    failed: list[BaseException] = []
    done = threading.Event()

    def calls() -> None:
        while not done.is_set():
            try:
                service.app.connections.signed("plants")
            except BaseException as error:
                failed.append(error)

    threads = [threading.Thread(target=calls) for _ in range(4)]
    for each in threads:
        each.start()
    for _ in range(8):
        service.app.connections.new_key()
    done.set()
    for each in threads:
        each.join()
    assert failed == []


ODD = 'Crocus & "saffron"/+17'


@pytest.mark.parametrize(
    "way", [{"way": "query", "sent_as": "key"}, {"way": "bearer"}, {"way": "basic", "user": "ada"}, {"way": "header", "sent_as": "X-Key"}]
)
def test_no_secret_leaves_a_connection_by_what_is_answered_by_where_it_leads_on_or_by_what_is_told(service: Running, way: dict[str, str]) -> None:
    with echoing() as echo, echoing() as other:
        echo.elsewhere = other.url
        told = service.client.put_connection("echo", echo.url, secret=ODD, probe="say", **way)
        forms = forms_of(ODD, way.get("user", ""))
        got = service.app.outside.fetch(Wanted("say", connection="echo"))
        round_ = service.app.outside.fetch(Wanted("round", connection="echo"))
        seen = [json.dumps(told), str(got), str(round_), json.dumps(service.client.connection("echo"))]
        for path in ("away", "lost"):
            try:
                seen.append(str(service.app.outside.fetch(Wanted(path, connection="echo"))))
            except FetchFailed as error:
                seen.append(f"{error} {error.told} {error.headers}")
    with service.app.database.reading() as connection:
        seen.append(str(connection.exec_driver_sql("SELECT * FROM outside_calls").all()))
    service.app.database.settle()
    whole = "".join(seen).lower()
    assert not [each for each in forms if each.lower() in whole]
    kept_bytes = b"".join(place.read_bytes() for place in service.app.home.rglob("*") if place.is_file())
    assert not [each for each in forms if each.encode() in kept_bytes]
    assert not [form for form in forms for each in other.heard if form in each]
    assert any(form in "".join(echo.heard) for form in forms), "the service itself is sent it"
