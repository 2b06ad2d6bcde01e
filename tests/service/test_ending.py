"""A service that ends: what is being answered is answered, and afterwards nothing of it is left."""

from __future__ import annotations

import os
import socket
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest
from waitress.server import create_server

from metrikon.app.assemble import App
from metrikon.service import channels
from metrikon.service.serving import Server

Gone = tuple[Server, httpx.Client, set[int | None]]


class Waiting:
    """A service of one page that is answered when it is told to."""

    def __init__(self, body: bytes = b"here") -> None:
        self.asked, self.go, self.body = threading.Event(), threading.Event(), body
        self.server = create_server(self._answer, host="127.0.0.1", port=0, threads=2)
        channels.guard(self.server, trusted="")
        self.url = f"http://127.0.0.1:{self.server.effective_port}/"
        self.thread = threading.Thread(target=channels.run, args=(self.server,), daemon=True)
        self.thread.start()

    def _answer(self, environ: dict[str, Any], start: Callable[..., Any]) -> list[bytes]:
        self.asked.set()
        self.go.wait(20)
        start("200 OK", [("Content-Length", str(len(self.body)))])
        return [self.body]


@pytest.fixture
def gone(house: Callable[..., App]) -> Iterator[Gone]:
    """A service that was closed while a client kept its connection."""
    app = house(port=0)
    others = {each.ident for each in threading.enumerate()}  # of services that other tests keep
    server = Server(app)
    server.start()
    with httpx.Client() as http:
        assert http.get(f"{server.url}/api/session").status_code == 401
        server.close()
        yield server, http, others


def test_a_closed_service_answers_nobody_not_even_on_a_connection_that_was_kept(gone: Gone) -> None:
    server, http, _ = gone
    with pytest.raises(httpx.TransportError):
        http.get(f"{server.url}/api/session")


def test_a_closed_service_leaves_no_thread_of_its_own(gone: Gone) -> None:
    _, _, others = gone
    own = [each.name for each in threading.enumerate() if each.ident not in others]
    assert not [name for name in own if name in ("http", "health") or name.startswith("waitress")]


def test_whoever_still_answers_when_the_service_is_gone_writes_into_no_file_that_was_opened_since(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(channels, "LAST", 0.1)
    here = Waiting()
    with socket.create_connection(("127.0.0.1", here.server.effective_port)) as asking:
        asking.sendall(b"GET / HTTP/1.1\r\nHost: garden.example\r\n\r\n")
        assert here.asked.wait(10)
        channels.end(here.server, here.thread)
    opened = [(tmp_path / f"{number}").open("wb") for number in range(30)]  # they take the numbers that became free
    here.go.set()
    time.sleep(0.3)
    assert [os.path.getsize(each.name) for each in opened] == [0] * 30
    for each in opened:
        each.close()


def test_what_is_being_answered_when_the_service_ends_still_comes_whole() -> None:
    here = Waiting(os.urandom(5_000_000))  # more than a socket holds
    answers: list[httpx.Response] = []
    asking = threading.Thread(target=lambda: answers.append(httpx.get(here.url, timeout=20)))
    asking.start()
    assert here.asked.wait(10)
    threading.Timer(0.2, here.go.set).start()
    channels.end(here.server, here.thread)
    asking.join(10)
    assert not here.thread.is_alive()
    assert answers[0].content == here.body


def test_a_service_that_ends_takes_no_more(monkeypatch: pytest.MonkeyPatch) -> None:
    here = Waiting()
    asking = threading.Thread(target=lambda: httpx.get(here.url, timeout=20))
    asking.start()
    assert here.asked.wait(10)
    ending = threading.Thread(target=channels.end, args=(here.server, here.thread))
    ending.start()
    time.sleep(0.2)
    with pytest.raises(httpx.ConnectError):
        httpx.get(here.url)
    here.go.set()
    ending.join(10)
    asking.join(10)


def test_a_service_whose_loop_has_failed_lets_go_of_its_address() -> None:
    here = Waiting()
    channels._map_of(here.server)[10_000] = None  # what no loop can look at
    with pytest.MonkeyPatch.context() as quiet:
        quiet.setattr(threading, "excepthook", lambda told: None)
        here.server.trigger.pull_trigger()
        here.thread.join(10)
    del channels._map_of(here.server)[10_000]
    assert not here.thread.is_alive()
    channels.end(here.server, here.thread)
    with pytest.raises(httpx.ConnectError):
        httpx.get(here.url)


def test_ending_twice_is_ending_once() -> None:
    here = Waiting()
    channels.end(here.server, here.thread)
    channels.end(here.server, here.thread)
    channels.end(here.server)
    assert not here.thread.is_alive()
