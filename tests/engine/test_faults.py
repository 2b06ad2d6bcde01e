"""A full disk, a database that cannot be written, a clock that jumps, a connection that is cut: nothing is lost, it is told, and it goes on by itself."""

from __future__ import annotations

import socket
import sqlite3
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import httpx
import pytest
from sqlalchemy import Connection

from metrikon.app.assemble import App
from metrikon.client import ServiceError
from metrikon.store.database import StoreFailed
from tests.engine.test_keeping import LaterClock
from tests.engine.test_language import HEAD, ROW, begun, rows
from tests.helpers import Running, eventually, run_state, states

FLOW = HEAD + "  - {name: paper, read: {}}\n  - {name: rest, wait: {for: 0.2}}\n" + ROW.replace("VALUE", "item.name")


def driven(app: App, act: Callable[[sqlite3.Connection], object]) -> None:
    """Do something with the driver's connection that writes."""

    def job(connection: Connection) -> None:
        driver: Any = connection.connection
        act(driver.driver_connection)

    app.database.write(job)


def written(app: App) -> list[Any]:
    """The rows so far; none before the first made the table."""
    return rows(app) if (app.home / "out.db").exists() and (app.home / "out.db").stat().st_size else []


@contextmanager
def full(app: App) -> Iterator[None]:
    """The database can grow no further, as when the disk is full."""
    with app.database.reading() as connection:
        pages = connection.exec_driver_sql("PRAGMA page_count").scalar_one()
    driven(app, lambda driver: driver.execute(f"PRAGMA max_page_count={pages}"))
    yield
    driven(app, lambda driver: driver.execute("PRAGMA max_page_count=1000000"))


@contextmanager
def read_only(app: App) -> Iterator[None]:
    """Nothing can be written, as when the disk was mounted anew for reading."""
    refused = (sqlite3.SQLITE_INSERT, sqlite3.SQLITE_UPDATE, sqlite3.SQLITE_DELETE)
    driven(app, lambda driver: driver.set_authorizer(lambda action, *_: sqlite3.SQLITE_DENY if action in refused else sqlite3.SQLITE_OK))
    yield
    driven(app, lambda driver: driver.set_authorizer(None))


@pytest.mark.parametrize("failing", [full, read_only])
def test_a_database_that_takes_nothing_loses_nothing_and_goes_on_when_it_does(
    running: Callable[..., Running], failing: Callable[..., object]
) -> None:
    service = running(workers=4)
    app, client = service.app, service.client
    app.engine.settings = replace(app.engine.settings, lease=700)
    client.put_flow("garden", FLOW)
    sent = [client.upload("garden", f"note {number} ".encode() * 40, name=f"{number}.txt") for number in range(6)]
    with failing(app):  # type: ignore[attr-defined]
        told = ""
        for number in range(2000):  # until the room that is left is used up
            try:
                client.upload("garden", f"more {number}".encode() * 20, name=f"more-{number}.txt", identity=f"m{number}")
            except ServiceError as error:
                told = str(error)
                break
        assert "Is the disk full or read-only?" in told
        assert client.records() is not None, "what is kept can be read meanwhile"
    again = client.upload("garden", f"more {number}".encode() * 20, name=f"more-{number}.txt", identity=f"m{number}")
    assert not again.known, "it was not half taken in"
    eventually(lambda: set(states(app)) == {"done"}, 60)
    assert len(written(app)) == len(set(written(app))) == 6 + number + 1
    assert {f"{each}.txt" for each in range(len(sent))} <= set(written(app))


def test_a_clock_that_is_set_back_or_forward_holds_nothing_up(house: Callable[..., App]) -> None:
    app = house(clock=LaterClock())
    clock: LaterClock = app.clock  # type: ignore[assignment]
    clock.ahead = 3_600_000
    app.catalog.put_flow(HEAD + ROW.replace("VALUE", "item.name"))
    app.arrivals.take("garden", "upload", None, "early.txt", b"it came before the clock was set back")
    clock.ahead = 0
    app.start()
    eventually(lambda: "early.txt" in written(app))
    clock.ahead = 3_600_000
    waits = begun(app, FLOW.removeprefix(HEAD), "before.txt")
    eventually(lambda: run_state(app, waits)[0] == "waiting")
    clock.ahead = 0
    begun(app, ROW.replace("VALUE", "item.name"), "back.txt")
    eventually(lambda: "back.txt" in written(app))
    clock.ahead = 86_400_000
    eventually(lambda: set(states(app)) == {"done"})
    begun(app, ROW.replace("VALUE", "item.name"), "forward.txt")
    eventually(lambda: sorted(written(app)) == ["back.txt", "before.txt", "early.txt", "forward.txt"])


class _CutsOff(BaseHTTPRequestHandler):
    cuts = 2

    def do_GET(self) -> None:
        whole = b"Ferns 4.50\n" * 200
        self.send_response(200)
        self.send_header("Content-Type", "text/plain")
        self.send_header("Content-Length", str(len(whole)))
        self.end_headers()
        cut = type(self).cuts > 0
        type(self).cuts -= cut
        self.wfile.write(whole[: 300 if cut else None])
        self.wfile.flush()
        self.connection.shutdown(socket.SHUT_RDWR) if cut else None

    def log_message(self, format: str, *args: object) -> None:
        return None


def test_an_answer_that_is_cut_off_is_asked_for_again(house: Callable[..., App]) -> None:
    app = house(fetch_private=True)
    server = ThreadingHTTPServer(("127.0.0.1", 0), _CutsOff)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        step = f'  - {{name: page, retry: {{wait: 0}}, fetch: {{url: "http://127.0.0.1:{server.server_address[1]}/"}}}}\n'
        run = begun(app, step + ROW.replace("VALUE", "page.size"))
        eventually(lambda: run_state(app, run)[0] in ("done", "parked"))
    finally:
        server.shutdown()
        server.server_close()
    assert written(app) == [2200]


def test_an_upload_that_is_cut_off_is_not_taken_in(running: Callable[..., Running]) -> None:
    service = running()
    service.client.put_flow("garden", FLOW)
    url = httpx.URL(service.url)
    head = f"POST /api/flows/garden/items?name=half.txt HTTP/1.1\r\nHost: {url.host}\r\nAuthorization: Bearer {service.token}\r\nContent-Length: 5000\r\n\r\n"
    with socket.create_connection((url.host, url.port or 80)) as half:
        half.sendall(head.encode() + b"half of a letter")
    service.client.upload("garden", b"a whole letter", name="whole.txt")
    eventually(lambda: written(service.app) == ["whole.txt"])
    assert [each.name for each in service.client.items()] == ["whole.txt"]


def test_what_the_database_did_not_take_is_told_in_words(house: Callable[..., App]) -> None:
    app = house()
    with read_only(app), pytest.raises(StoreFailed, match="The database did not take the change: not authorized"):
        app.database.write(lambda connection: connection.exec_driver_sql("DELETE FROM changes"))


def test_a_database_that_another_program_holds_locked_loses_nothing(running: Callable[..., Running]) -> None:
    service = running(workers=4)
    app, client = service.app, service.client
    client.put_flow("garden", FLOW)
    run = client.upload("garden", b"a note before", name="before.txt").run_id
    with sqlite3.connect(app.home / "metrikon.db", isolation_level=None) as other:
        other.execute("BEGIN IMMEDIATE")
        with pytest.raises(ServiceError, match="The database did not take the change: database is locked") as told:
            client.upload("garden", b"a note meanwhile", name="meanwhile.txt", identity="m")
        assert told.value.status == 503
        assert client.records() is not None
        other.execute("ROLLBACK")
    other.close()
    assert not client.upload("garden", b"a note meanwhile", name="meanwhile.txt", identity="m").known
    eventually(lambda: set(states(app)) == {"done"}, 60)
    assert run_state(app, run)[0] == "done"
    assert written(app) == ["before.txt", "meanwhile.txt"]
