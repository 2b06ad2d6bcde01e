"""Connections that are kept open for a moment: used again by what may be asked twice, and by nothing else."""

from __future__ import annotations

import contextlib
import socket
import threading
from collections.abc import Iterator

import pytest

from metrikon.connections.fetching import FetchFailed, Wanted, fetch
from metrikon.connections.kept import Kept

ANSWER = b"HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\nContent-Length: 5\r\n\r\nferns"


class Server:
    """Counts connections and requests. `closing`: it closes a connection upon its second request, without a word."""

    def __init__(self) -> None:
        self.closing, self.connections, self.requests = False, 0, 0
        self._heard = socket.create_server(("127.0.0.1", 0))
        self.url = f"http://127.0.0.1:{self._heard.getsockname()[1]}/"
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                one, _ = self._heard.accept()
                self.connections += 1
                threading.Thread(target=self._answer, args=(one,), daemon=True).start()

    def _answer(self, one: socket.socket) -> None:
        with one, contextlib.suppress(OSError):
            for number in range(1000):
                data = b""
                while b"\r\n\r\n" not in data:
                    part = one.recv(4096)
                    if not part:
                        return
                    data += part
                self.requests += 1
                if number and self.closing:
                    return
                one.sendall(ANSWER)

    def end(self) -> None:
        self._heard.close()


@pytest.fixture
def server() -> Iterator[Server]:
    made = Server()
    yield made
    made.end()


@pytest.fixture
def kept() -> Iterator[Kept]:
    made = Kept()
    yield made
    made.close()


def test_what_may_be_asked_twice_goes_over_one_connection(server: Server, kept: Kept) -> None:
    for _ in range(5):
        assert fetch(Wanted(server.url, private=True, twice=True, kept=kept)).data == b"ferns"
    assert (server.connections, server.requests) == (1, 5)


def test_one_that_turns_out_to_be_closed_is_not_noticed_by_whoever_asks(server: Server, kept: Kept) -> None:
    server.closing = True
    for _ in range(3):
        assert fetch(Wanted(server.url, private=True, twice=True, kept=kept)).data == b"ferns"
    assert (server.connections, server.requests) == (3, 4), "what was closed was asked again, over one of its own"


def test_what_may_not_be_asked_twice_has_a_connection_of_its_own(server: Server, kept: Kept) -> None:
    server.closing = True
    for _ in range(3):
        fetch(Wanted(server.url, private=True, method="POST", body=b"x", kept=kept))
    assert (server.connections, server.requests) == (3, 3)


def test_one_that_fails_the_first_time_is_not_asked_again(kept: Kept) -> None:
    heard = socket.create_server(("127.0.0.1", 0))
    asked = []

    def serve() -> None:
        with contextlib.suppress(OSError):
            while True:
                one, _ = heard.accept()
                with one:
                    asked.append(one.recv(4096))

    threading.Thread(target=serve, daemon=True).start()
    with pytest.raises(FetchFailed):
        fetch(Wanted(f"http://127.0.0.1:{heard.getsockname()[1]}/", private=True, twice=True, kept=kept))
    assert len(asked) == 1
    heard.close()
