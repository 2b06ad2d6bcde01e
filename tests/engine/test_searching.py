"""Search services and described services asked by steps; pages drawn by a browser, which reaches no address that is not allowed."""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import pytest

from metrikon.app.assemble import App
from metrikon.connections.browser import drawn
from metrikon.connections.fetching import FetchFailed, Wanted
from metrikon.core.flows.connecting import Way
from metrikon.core.flows.problems import BadFlow
from metrikon.core.services.opensearch import BadSearch, results_in, search_in
from metrikon.sandbox.records import TOKEN
from metrikon.sandbox.services import Services
from metrikon.store import journal
from tests.helpers import eventually, run_state


class Site:
    """A site whose page is made by script; it notes what it is asked for, and with which cookies."""

    def __init__(self) -> None:
        asked: list[tuple[str, str | None]] = []

        class Handler(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                asked.append((self.path, self.headers.get("Cookie")))
                script = (
                    "setTimeout(() => { document.querySelector('p').textContent = 'Ferns 12.50, as of today'; }, 300); document.cookie = 'seen=1';"
                )
                more = "fetch('http://10.1.2.3/secret').catch(() => {});" if self.path == "/prying" else ""
                leads = '<meta http-equiv="refresh" content="0; url=http://10.1.2.3/">' if self.path == "/leading" else ""
                big = f"<pre>{'x' * 300_000}</pre>" if self.path == "/large" else ""
                body = f"<!doctype html><html><head>{leads}</head><body><p>Please wait</p>{big}<script>{script}{more}</script></body></html>".encode()
                self.send_response(404 if self.path == "/gone" else 200)
                self.send_header("Content-Type", "text/html; charset=utf-8")
                self.send_header("Content-Length", str(len(body)))
                self.end_headers()
                self.wfile.write(body)

            def log_message(self, *given: object) -> None:
                pass

        self.asked = asked
        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        self.url = f"http://127.0.0.1:{self.server.server_port}"


@pytest.fixture(scope="module")
def site() -> Iterator[Site]:
    made = Site()
    yield made
    made.server.shutdown()
    made.server.server_close()


@pytest.fixture
def outside() -> Iterator[Services]:
    services = Services().start()
    yield services
    services.stop()


@pytest.fixture
def app(house: Callable[..., App], outside: Services) -> App:
    app = house(fetch_private=True)
    app.connections.put("sites", f"{outside.url}/search", Way("none"), None, "ada")
    app.connections.put("crm", f"{outside.url}/records", Way("bearer"), TOKEN, "ada")
    app.engine.start()
    return app


def _result(app: App, step: str, state: str = "done") -> Any:
    app.catalog.put_flow(f"metrikon: 1\nname: asks\nintakes: [{{kind: upload}}]\nsteps:\n- {{name: one, {step}}}\n")
    run = str(app.arrivals.take("asks", "upload", step, "go.bin", hashlib.sha256(step.encode()).digest()).run_id)
    eventually(lambda: run_state(app, run)[0] in (state, "parked"), 60)
    if state == "parked":
        return run_state(app, run)[1]
    assert run_state(app, run)[0] == state, run_state(app, run)
    with app.database.reading() as connection:
        return next(entry.data["result"] for _, entry in journal.load(connection, run) if entry.event == "done")


def test_results_of_a_search_come_from_as_many_pages_as_are_wanted(app: App) -> None:
    found = _result(app, "search: {connection: sites, path: description.xml, words: garden}")
    assert (found["count"], found["total"], found["found"]) == (2, 2, True)
    every = _result(app, 'search: {connection: sites, path: description.xml, words: "e", most: 5}')
    assert (every["count"], every["total"]) == (5, 6), "two pages of three were asked for"
    assert len({each["address"] for each in every["list"]}) == 5
    assert set(every["first"]) == {"title", "address", "text"}
    none = _result(app, "search: {connection: sites, path: description.xml, words: orchids from the moon}")
    assert (none["list"], none["found"], none["first"]) == ([], False, None)


def test_words_that_look_like_an_address_stay_words(app: App) -> None:
    assert _result(app, 'search: {connection: sites, path: description.xml, words: "a&page=2#x{searchTerms}"}')["count"] == 0


def test_records_are_found_by_their_fields_and_an_operation_is_asked(app: App, outside: Services) -> None:
    described = app.outside.fetch(Wanted("openapi.json", connection="crm")).data
    told, notes = app.describing.put("crm", described or b"")
    app.describing.note("crm", notes.model_dump(exclude_defaults=True, by_alias=True))
    outside.world.records.contacts["c1"] = {"id": "c1", "email": "ada@mail.example", "name": "Ada Fenwick", "made_at": 0.0}
    found = _result(app, "search: {connection: crm, records: contacts, by: {email: ada@mail.example}}")
    assert (found["count"], found["first"]["name"]) == (1, "Ada Fenwick")
    lists = next(name for name, each in told.operations.items() if each.method == "GET" and each.path.endswith("contacts"))
    assert "ada@mail.example" in str(_result(app, f"fetch: {{connection: crm, operation: {lists}}}")["answer"])
    makes = next(name for name, each in told.operations.items() if each.method == "POST" and each.path.endswith("contacts"))
    assert "may change something there" in _result(app, f"fetch: {{connection: crm, operation: {makes}}}", "parked")
    assert "no operation 'nothing'" in _result(app, "fetch: {connection: crm, operation: nothing}", "parked")
    assert "takes no 'colour'" in _result(app, f"fetch: {{connection: crm, operation: {lists}, given: {{colour: red}}}}", "parked")


def test_a_page_that_is_made_by_script_is_drawn_without_cookies(app: App, site: Site) -> None:
    found = _result(app, f"fetch: {{url: {site.url}/prices, drawn: true}}")
    assert "Ferns 12.50, as of today" in app.files.get(found["file"]).decode()
    assert (found["type"], found["changed"]) == ("text/html", True)
    again = _result(app, f'fetch: {{url: "{site.url}/prices", drawn: true}}')
    assert again["changed"] is False, "it is as it was"
    assert [cookie for path, cookie in site.asked if path == "/prices"] == [None, None], "each time with a profile of its own"
    plain = _result(app, f"fetch: {{url: {site.url}/prices}}")
    assert "Please wait" in app.files.get(plain["file"]).decode()


@pytest.mark.parametrize(
    ("path", "told"),
    [("/gone", "answered 404"), ("/large", "more than the 0.2 MB"), ("/leading", "an address of a private network|could not be drawn")],
)
def test_a_page_that_cannot_be_drawn_is_told_in_words(path: str, told: str, site: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    real = FetchFailed
    monkeypatch.setattr("metrikon.connections.fetching._public", lambda address: address.startswith("127."))
    with pytest.raises(real, match=told):
        drawn(Wanted(f"{site.url}{path}", most_bytes=200_000, seconds=30))


def test_a_page_reaches_no_private_address_from_the_browser(site: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    asked: list[str] = []

    def public(address: str) -> bool:
        asked.append(address)
        return address.startswith("127.")

    monkeypatch.setattr("metrikon.connections.fetching._public", public)
    assert b"Ferns 12.50" in (drawn(Wanted(f"{site.url}/prying", seconds=30)).data or b"")
    assert "10.1.2.3" in asked, "the browser asked for it, and was refused"


@pytest.mark.parametrize("url", ["file:///etc/passwd", "chrome://version", "http://nothing.invalid/", "data:text/html,hello"])
def test_only_pages_of_the_web_are_drawn(url: str) -> None:
    with pytest.raises(FetchFailed):
        drawn(Wanted(url, private=True))


def test_a_page_is_not_drawn_for_a_house_that_allows_no_private_addresses(site: Site) -> None:
    with pytest.raises(FetchFailed, match="fetch_private allows"):
        drawn(Wanted(site.url))


@pytest.mark.parametrize(
    ("step", "told"),
    [
        ("search: {connection: nothing, words: a}", "There is no connection 'nothing'"),
        ("search: {connection: sites}", "Say either the `words`"),
        ("search: {connection: crm, records: contacts}", "nothing to find records by"),
        ("fetch: {connection: crm}", "Say either the address"),
        ("fetch: {operation: x}", "Name it"),
        ("fetch: {url: 'https://a.example', connection: crm, drawn: true}", "without a connection"),
    ],
)
def test_what_is_wrong_is_told_when_the_flow_is_kept(app: App, step: str, told: str) -> None:
    with pytest.raises(BadFlow, match=told):
        _result(app, step)


SPACE = "http://a9.com/-/spec/opensearch/1.1/"


def test_a_template_is_filled_with_what_it_asks_for() -> None:
    told = f'<OpenSearchDescription xmlns="{SPACE}"><Url type="application/atom+xml" indexOffset="0" template="/find?q={{searchTerms}}&amp;n={{count}}&amp;s={{startIndex?}}&amp;x={{other?}}"/></OpenSearchDescription>'
    search = search_in(told.encode(), "https://a.example/d.xml")
    assert search.address("ferns & moss", 10, 1, 5) == "https://a.example/find?q=ferns%20%26%20moss&n=5&s=10&x="
    with pytest.raises(BadSearch, match="'geo:box'"):
        search_in(told.replace("{other?}", "{geo:box}").encode(), "https://a.example/").address("a", 0, 0, 1)


@pytest.mark.parametrize(
    ("data", "told"),
    [
        (b"", "no XML"),
        (b"<a/>", "no OpenSearch description"),
        (f'<OpenSearchDescription xmlns="{SPACE}"><Url type="text/html" template="a"/></OpenSearchDescription>'.encode(), "but as text/html"),
        (
            f'<OpenSearchDescription xmlns="{SPACE}"><Url type="application/rss+xml" template="a"/></OpenSearchDescription>'.encode(),
            "no place for the words",
        ),
    ],
)
def test_what_is_no_description_is_refused(data: bytes, told: str) -> None:
    with pytest.raises(BadSearch, match=told):
        search_in(data, "https://a.example/")


def test_results_of_an_atom_feed_are_plain_text_and_total_is_taken_as_told() -> None:
    feed = (
        f'<feed xmlns="http://www.w3.org/2005/Atom" xmlns:o="{SPACE}"><title>t</title><o:totalResults>41</o:totalResults><entry><title>A &lt;b&gt;fern&lt;/b&gt;</title>'
        '<link href="/fern"/><summary type="html">&lt;script&gt;x&lt;/script&gt;It grows</summary></entry></feed>'
    ).encode()
    found, total = results_in(feed, "https://a.example/find")
    assert (found, total) == ([{"title": "A fern", "address": "https://a.example/fern", "text": "x It grows"}], 41)
    with pytest.raises(BadSearch):
        results_in(b"<html>no feed</html>", "")
