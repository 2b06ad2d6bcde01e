"""Records typed into a program that has only a screen: once, looked up before, read back, with pictures; anything unexpected stops it at once."""

from __future__ import annotations

import hashlib
import json
import re
import socket
import threading
from collections.abc import Callable, Iterator
from decimal import Decimal
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest

import metrikon.demo
from metrikon.app.assemble import App
from metrikon.connections.browser import browser
from metrikon.connections.guarding import Guard
from metrikon.connections.screen import BrowserScreen
from metrikon.core.entering.plan import NoPlan, planned
from metrikon.core.entering.way import BadWay, Place, way_from
from metrikon.core.feel.holes import fill
from metrikon.core.flows.connecting import Way
from metrikon.core.flows.problems import BadFlow
from metrikon.core.flows.text import from_yaml
from metrikon.ports.screen import ScreenStopped
from metrikon.sandbox.accounts import PASSWORD, USER, Accounts
from metrikon.sandbox.services import Services
from metrikon.store import journal, keeping
from tests.certificates import authority, serving
from tests.helpers import eventually, run_state

WAY = (Path(metrikon.demo.__file__).parent / "ways" / "old-ledger.yaml").read_text()
BLIND = WAY[: WAY.index("look_up:")] + WAY[WAY.index("enter:") :]
LINES = [
    {"part": "FN-201", "description": "Hart's-tongue fern", "quantity": 3, "price": Decimal("10.00")},
    {"part": "ZZ-9", "description": "Glass <b>&", "quantity": 1, "price": Decimal("7.50")},
]
BILL: dict[str, Any] = {"number": "FN-1", "vendor": "fernhill nurseries", "date": "2026-03-04", "total": Decimal("37.50"), "lines": LINES}


@pytest.fixture
def services() -> Iterator[Services]:
    made = Services().start()
    yield made
    made.stop()


@pytest.fixture
def ledger(services: Services) -> Accounts:
    return services.world.accounts


@pytest.fixture
def app(house: Callable[..., App], services: Services) -> App:
    app = house(fetch_private=True)
    app.connections.put("accounts", f"{services.url}/accounts", Way("basic", USER), PASSWORD, "ada")
    app.ways.put(WAY.replace("takes:", "patience: 5\ntakes:"))
    app.engine.start()
    return app


def _flow(app: App, dry: bool = False, retry: str = "") -> None:
    values = (
        "{number: ${item.data.number}, vendor: ${item.data.vendor}, date: ${item.data.date}, total: ${item.data.total}, lines: ${item.data.lines}, "
    )
    values += "file: ${item.file}, name: ${item.name}}"
    app.catalog.put_flow(
        'metrikon: 1\nname: books\nintakes: [{kind: upload}]\nsteps:\n- name: booked\n  enter:\n    way: old-ledger\n    key: ["${item.data.vendor}", "${item.data.number}"]\n'
        f"    dry: {json.dumps(dry)}\n    values: {values.replace('${', chr(34) + '${').replace('}, ', '}' + chr(34) + ', ').replace('name}}', 'name}' + chr(34) + '}')}\n{retry}"
    )


def _take(app: App, name: str = "bill.pdf", **other: Any) -> str:
    data = json.dumps({name: str(value) for name, value in other.items()}).encode() + name.encode()
    arrived = app.arrivals.begin("books", "upload", hashlib.sha256(data).hexdigest(), name, data, about={**BILL, **other}, in_row=False).result()
    return str(arrived.run_id)


def _ends(app: App, run: str, state: str) -> str:
    eventually(lambda: run_state(app, run)[0] in (state, "parked", "done"), 90)
    found = run_state(app, run)
    assert found[0] == state, found
    return str(found[1])


def _result(app: App, run: str) -> Any:
    with app.database.reading() as connection:
        return next(entry.data["result"] for _, entry in journal.load(connection, run) if entry.event == "done")


def test_an_invoice_is_entered_row_by_row_with_its_paper_and_pictures_of_each_press(app: App, ledger: Accounts) -> None:
    _flow(app)
    run = _take(app)
    _ends(app, run, "done")
    [held] = ledger.invoices
    assert (held["number"], held["vendor"], held["date"], held["total"], held["file"]) == (
        "FN-1",
        "Fernhill Nurseries",
        "2026-03-04",
        "37.50",
        "bill.pdf",
    )
    assert [(each["part"], each["description"], each["price"]) for each in held["rows"]] == [
        ("FN-201", "Hart's-tongue fern", Decimal("10.00")),
        ("MISC", "Glass <b>&", Decimal("7.50")),
    ]
    with app.database.reading() as connection:
        assert held["paper"] == app.files.get(str(connection.exec_driver_sql("SELECT sha256 FROM items").scalar()))
    found = _result(app, run)
    assert (found["result"], found["read"]) == ("entered", {"Invoice number": "FN-1", "Total": "37.50"})
    assert found["chosen"] == ["“Part” in the last row: MISC Miscellaneous instead of ZZ-9"]
    assert [each["told"] for each in found["pictures"]][-2:] == ["before Press “Save”", "after Press “Save”"]
    assert all(app.files.get(each["file"]).startswith(b"\x89PNG") for each in found["pictures"])
    with app.database.reading() as connection:
        assert keeping.packed_in(connection, [run]) == {each["file"] for each in found["pictures"]}, "pictures go with the results of their run"


def test_the_same_key_is_entered_once_whoever_brings_it_and_what_a_person_entered_is_seen(app: App, ledger: Accounts) -> None:
    _flow(app)
    first = _take(app)
    _ends(app, first, "done")
    second = _take(app, "again.pdf")
    _ends(app, second, "done")
    assert (_result(app, second)["result"], _result(app, second)["by"]) == ("there already", first)
    ledger.invoices.append(
        {"number": "FN-2", "vendor": "Fernhill Nurseries", "date": "2026-03-05", "total": "1.00", "rows": [], "paper": b"", "file": ""}
    )
    third = _take(app, "third.pdf", number="FN-2")
    _ends(app, third, "done")
    assert _result(app, third)["result"] == "there already"
    assert ledger.pressed == 1


def test_a_trial_goes_as_far_as_the_last_press_and_enters_nothing(app: App, ledger: Accounts) -> None:
    _flow(app, dry=True)
    run = _take(app)
    _ends(app, run, "done")
    assert (_result(app, run)["result"], ledger.pressed) == ("tried", 0)
    assert _result(app, run)["pictures"][-1]["told"].startswith("before the last press")
    _flow(app)
    again = _take(app, "again.pdf")
    _ends(app, again, "done")
    assert (_result(app, again)["result"], ledger.pressed) == ("entered", 1), "what was tried is not taken for entered"


def test_an_answer_that_is_lost_after_saving_is_looked_up_and_not_entered_twice(app: App, ledger: Accounts) -> None:
    _flow(app, retry="  retry: {attempts: 3, wait: 0.1}\n")
    ledger.lose = 1
    run = _take(app)
    _ends(app, run, "done")
    assert (_result(app, run)["result"], len(ledger.invoices)) == ("there already", 1)


def test_without_a_way_to_look_what_was_cut_off_waits_for_a_person_and_a_new_run_does_too(app: App, ledger: Accounts) -> None:
    app.ways.put(BLIND.replace("takes:", "patience: 5\ntakes:"))
    _flow(app, retry="  retry: {attempts: 3, wait: 0.1}\n")
    ledger.lose = 1
    run = _take(app)
    told = _ends(app, run, "parked")
    assert "Whether it was entered cannot be told" in told
    app.answers.continue_parked("ada")
    other = _take(app, "again.pdf")
    assert "was begun by the run" in _ends(app, other, "parked")
    assert len(ledger.invoices) == 1
    app.answers.continue_run(run, "ada", unsure="went")
    _ends(app, run, "done")
    assert len(ledger.invoices) == 1
    ledger.lose = 1
    again = _take(app, "third.pdf", number="FN-3")
    assert "cannot be told" in _ends(app, again, "parked")
    ledger.invoices.pop()
    app.answers.continue_run(again, "ada", unsure="again")
    eventually(lambda: run_state(app, again)[0] == "done", 60)
    assert [each["number"] for each in ledger.invoices] == ["FN-1", "FN-3"], "a person said that it is to be done again"


@pytest.mark.parametrize(
    ("change", "told"),
    [
        (lambda ledger: setattr(ledger, "layout", "renamed"), "There is no field “Invoice number” on the screen"),
        (lambda ledger: setattr(ledger, "notice", "The books of March are closed."), "The program says: The books of March are closed."),
        (lambda ledger: setattr(ledger, "limit", 3), "session ran out"),
    ],
)
def test_whatever_is_unexpected_stops_it_at_once_with_a_picture(app: App, ledger: Accounts, change: Callable[[Accounts], None], told: str) -> None:
    change(ledger)
    _flow(app)
    run = _take(app)
    reason = _ends(app, run, "parked")
    assert re.search(told, reason), reason
    with app.database.reading() as connection:
        failed = [entry.data for _, entry in journal.load(connection, run) if entry.event == "failed"]
    assert failed[-1]["seen"][-1]["told"] == "when it stopped"
    assert app.files.get(failed[-1]["seen"][-1]["file"]).startswith(b"\x89PNG")
    assert ledger.pressed == 0
    ledger.layout, ledger.limit = "", 0
    app.answers.continue_parked("ada")
    _ends(app, run, "done")
    assert ledger.pressed == 1


def test_a_layout_with_other_places_and_the_same_words_is_worked_as_before(app: App, ledger: Accounts) -> None:
    ledger.layout = "moved"
    _flow(app)
    run = _take(app)
    _ends(app, run, "done")
    assert ledger.invoices[0]["date"] == "2026-03-04"


def test_what_the_screen_shows_must_be_what_was_to_be_entered(app: App, ledger: Accounts) -> None:
    _flow(app)
    run = _take(app, total=Decimal("37.51"))
    assert "“Total” shows '37.50', and '37.51' was to be entered" in _ends(app, run, "parked")
    assert ledger.pressed == 0


@pytest.fixture
def secure(tmp_path: Path, house: Callable[..., App]) -> Iterator[tuple[App, Services]]:
    """The program over TLS, with a certificate of one's own network."""
    (tmp_path / "tls").mkdir()
    made = authority(tmp_path / "tls")
    services = Services(tls=serving(made)).start()
    app = house(fetch_private=True, trusted_certificates=str(made["ca.pem"]))
    app.connections.put("accounts", f"{services.url}/accounts", Way("basic", USER), PASSWORD, "ada")
    app.ways.put(WAY.replace("takes:", "patience: 5\ntakes:"))
    app.engine.start()
    yield app, services
    services.stop()


def test_over_tls_it_is_entered_once_too_whatever_answer_is_lost(secure: tuple[App, Services]) -> None:
    app, services = secure
    _flow(app, retry="  retry: {attempts: 3, wait: 0.1}\n")
    services.world.accounts.lose = 1
    run = _take(app)
    _ends(app, run, "done")
    assert (_result(app, run)["result"], len(services.world.accounts.invoices)) == ("there already", 1)
    assert services.world.accounts.pressed == 1, "the browser has not asked again by itself"


def test_a_program_whose_certificate_nobody_trusts_is_not_signed_in_at(house: Callable[..., App], tmp_path: Path) -> None:
    services = Services(tls=serving(authority(tmp_path), "stranger")).start()
    try:
        app = house(fetch_private=True)
        app.connections.put("accounts", f"{services.url}/accounts", Way("basic", USER), PASSWORD, "ada")
        app.ways.put(WAY.replace("takes:", "patience: 5\ntakes:"))
        app.engine.start()
        _flow(app)
        assert "certificate of 127.0.0.1 is not trusted" in _ends(app, _take(app), "parked")
    finally:
        services.stop()


def test_a_wrong_password_and_a_program_that_is_gone_are_told(app: App, services: Services) -> None:
    app.connections.put("accounts", f"{services.url}/accounts", Way("basic", USER), "wrong-one", "ada")
    _flow(app, retry="  retry: {attempts: 2, wait: 0.1}\n")
    assert "does not let us in" in _ends(app, _take(app), "parked")
    app.connections.put("accounts", "http://127.0.0.1:9/accounts", Way("basic", USER), PASSWORD, "ada")
    assert "does not answer" in _ends(app, _take(app, "b.pdf"), "parked")


def test_connections_of_a_browser_are_ended_before_a_press_so_that_it_repeats_nothing_by_itself() -> None:
    server = socket.create_server(("127.0.0.1", 0))
    with Guard(private=True, most=1000) as guard:
        host, _, port = guard.address.partition(":")
        with socket.create_connection((host, int(port)), 5) as own:
            own.sendall(f"CONNECT 127.0.0.1:{server.getsockname()[1]} HTTP/1.1\r\n\r\n".encode())
            assert own.recv(100).startswith(b"HTTP/1.1 200")
            own.sendall(b"hello")
            other, _ = server.accept()
            assert other.recv(5) == b"hello"
            guard.fresh()
            assert own.recv(1) == b""
            assert other.recv(1) == b""
            other.close()
    server.close()


class _Leaving(BaseHTTPRequestHandler):
    """A program that is gone a while after its button was pressed."""

    def do_GET(self) -> None:
        page = b"<button onclick=\"setTimeout(() => { location = '/saved'; }, 500)\">Save</button>"
        self.send_response(502 if self.path == "/saved" else 200)
        self.send_header("Content-Type", "text/html")
        self.end_headers()
        self.wfile.write(b"" if self.path == "/saved" else page)

    def log_message(self, format: str, *args: object) -> None:
        return None


def test_a_program_that_is_gone_when_its_screen_had_come_to_rest_does_not_answer_and_is_tried_again() -> None:
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Leaving)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        with browser(private=True, proxy="", trusted="") as (driver, _):
            screen = BrowserScreen(driver, lambda path: f"http://127.0.0.1:{server.server_address[1]}{path}", lambda: ("", ""), 5)
            screen.open("/")
            screen.press(Place(label="Save"))
            with pytest.raises(ScreenStopped, match="does not answer") as stopped:
                screen.shows("has been saved", 5)
            assert stopped.value.passing
    finally:
        server.shutdown()
        server.server_close()


def test_nothing_is_opened_while_a_value_is_missing() -> None:
    way = way_from(from_yaml(WAY))
    with pytest.raises(NoPlan, match=r"\$\{date\}, \$\{line.price\} have no value"):
        planned(
            way, {**BILL, "date": None, "file": "x", "name": "n", "lines": [{**LINES[0], "price": None}]}, lambda value, scope: fill(value, scope)
        )
    with pytest.raises(NoPlan, match="takes no colour"):
        planned(way, {"colour": 1}, lambda value, scope: fill(value, scope))


@pytest.mark.parametrize(
    ("change", "place", "told"),
    [
        (("last: true", "last: false"), "enter", "none is"),
        (("- press: Find", "- press: {on: Find, last: true}"), "look_up/steps/3", "Looking enters nothing"),
        (('"${date}"', '"${day}"'), "enter/5", "'day' is not known here"),
        (("press: Add row", "shove: Add row"), "enter/6/rows/steps/0/shove", "not known here"),
        (("- expect: New invoice", "- {expect: New invoice, open: a}"), "enter/2", "one verb"),
        (("connection: accounts\n", ""), "connection", "missing"),
    ],
)
def test_what_is_wrong_with_a_way_in_is_told_where_it_stands(change: tuple[str, str], place: str, told: str) -> None:
    with pytest.raises(BadWay) as error:
        way_from(from_yaml(WAY.replace(*change)))
    assert any(where == place and told in what for where, what in error.value.problems), error.value.problems


def test_a_flow_names_a_way_in_that_is_there_with_what_it_takes(app: App) -> None:
    with pytest.raises(BadFlow, match="no way in 'nowhere'"):
        app.catalog.put_flow(
            "metrikon: 1\nname: a\nintakes: [{kind: upload}]\nsteps:\n- {name: b, enter: {way: nowhere, key: [1], values: {a: 1}}}\n"
        )
    with pytest.raises(BadFlow, match="takes no 'colour'"):
        app.catalog.put_flow(
            "metrikon: 1\nname: a\nintakes: [{kind: upload}]\nsteps:\n- {name: b, enter: {way: old-ledger, key: [1], values: {colour: 1}}}\n"
        )
