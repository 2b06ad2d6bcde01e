"""Many at once, slow ones and wrong passwords: whoever means well is answered all the same."""

from __future__ import annotations

import socket
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack

import httpx
import pytest

from metrikon.service import auth, channels
from metrikon.service.tries import FREE, TooMany, Tries
from tests.helpers import Running, eventually

Start = Callable[..., Running]


def signing_in(url: str, password: str, address: str = "127.0.0.1", name: str = "gardener") -> httpx.Response:
    with httpx.Client(transport=httpx.HTTPTransport(local_address=address), timeout=30) as http:
        return http.post(f"{url}/api/session", json={"name": name, "password": password})


def test_forty_wrong_passwords_at_once_are_counted_exactly(running: Start) -> None:
    url = running().url
    began = time.monotonic()
    with ThreadPoolExecutor(40) as pool:
        answers = list(pool.map(lambda _: signing_in(url, "wrong"), range(40)))
    over = sum(time.monotonic() - began >= passed for passed in (2, 6, 14, 30))  # on a slow machine the first waits are over by then
    tried = sum(each.status_code == 401 for each in answers)
    assert FREE <= tried <= FREE + over
    assert sum(each.status_code == 429 for each in answers) == 40 - tried
    told = [each for each in answers if each.status_code == 429]
    assert all(1 <= int(each.headers["Retry-After"]) <= 2 ** (over + 1) for each in told)
    assert "Wait" in told[0].json()["detail"]


def test_wrong_passwords_from_elsewhere_keep_nobody_out(running: Start) -> None:
    url = running().url
    assert [signing_in(url, "wrong", "127.0.0.2").status_code for _ in range(FREE + 1)] == [401] * FREE + [429]
    assert signing_in(url, "glasshouse lane", "127.0.0.2").status_code == 429
    assert signing_in(url, "glasshouse lane", "127.0.0.3").status_code == 200


def test_the_wait_grows_and_a_right_password_ends_it() -> None:
    tries, now, waits = Tries(), 1000.0, []
    for _ in range(FREE + 4):
        try:
            tries.begin("a", "n", now)
        except TooMany as error:
            waits.append(error.wait)
            now += error.wait
            tries.begin("a", "n", now)
    assert waits == [2, 4, 8, 16]
    now += 32
    tries.begin("a", "n", now)
    tries.right("a", "n")
    for _ in range(FREE):
        tries.begin("a", "n", now)
    with pytest.raises(TooMany):
        tries.begin("a", "n", now)


def test_many_names_from_one_address_are_too_many_as_well() -> None:
    tries = Tries()
    for number in range(60):
        tries.begin("a", f"n{number}", 1000.0)
    with pytest.raises(TooMany, match="10 minutes"):
        tries.begin("a", "another", 1001.0)
    tries.begin("b", "another", 1001.0)
    tries.begin("a", "another", 1601.0)


@pytest.fixture
def held() -> Iterator[Callable[[str, int], list[socket.socket]]]:
    """Opens connections that say nothing."""
    with ExitStack() as stack:
        yield lambda url, count: [
            stack.enter_context(socket.create_connection(("127.0.0.1", int(url.rsplit(":", 1)[1])), timeout=10)) for _ in range(count)
        ]


def test_hundreds_of_idle_connections_keep_nobody_waiting(running: Start, held: Callable[[str, int], list[socket.socket]]) -> None:
    url = running().url
    held(url, 600)
    began = time.monotonic()
    assert httpx.get(f"{url}/health", timeout=10).status_code == 200
    assert time.monotonic() - began < 2


def test_a_request_that_comes_too_slowly_is_let_go_and_one_that_is_only_large_is_not(
    running: Start, held: Callable[[str, int], list[socket.socket]], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(channels, "PATIENCE", 1.0)
    url = running().url
    (slow, large) = held(url, 2)
    slow.sendall(b"GET /health HTTP/1.1\r\n")
    large.sendall(b"POST /api/session HTTP/1.1\r\nHost: a\r\nContent-Length: 400000\r\n\r\n" + b"x" * 100_000)
    gone = []

    def dripped() -> bool:
        try:
            slow.sendall(b"x")
            slow.settimeout(0.05)
            gone.append(slow.recv(10))
        except TimeoutError:
            return False
        except OSError:
            gone.append(b"")
        return gone[-1] == b""

    eventually(dripped, 15, pause=0.3)
    large.sendall(b"x" * 300_000)
    assert large.recv(12).startswith(b"HTTP/1.")


def test_health_is_answered_apart(running: Start) -> None:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    service = running(health_port=port)
    assert httpx.get(f"http://127.0.0.1:{port}/health").json()["status"] == "up"
    assert httpx.get(f"http://127.0.0.1:{port}/ready").status_code == 200
    assert httpx.get(f"http://127.0.0.1:{port}/api/today").status_code == 404
    assert service.url


def test_the_cookie_is_for_tls_alone_behind_a_proxy_that_is_trusted(running: Start) -> None:
    sent = {"json": {"name": "gardener", "password": "glasshouse lane"}, "headers": {"X-Forwarded-Proto": "https", "X-Forwarded-For": "10.1.2.3"}}
    plain = running()
    assert "Secure" not in httpx.post(f"{plain.url}/api/session", **sent).headers["Set-Cookie"]  # type: ignore[arg-type]
    behind = running("other", trusted_proxy="127.0.0.1")
    assert "Secure" in httpx.post(f"{behind.url}/api/session", **sent).headers["Set-Cookie"]  # type: ignore[arg-type]


def test_a_session_that_is_opened_while_the_password_changes_is_not_opened(running: Start, monkeypatch: pytest.MonkeyPatch) -> None:
    service = running()
    right = auth.check_password_hash

    def changed_meanwhile(kept: str, given: str) -> bool:
        found = right(kept, given)
        auth.set_password(service.app, "gardener", "another lane altogether")
        return found

    monkeypatch.setattr(auth, "check_password_hash", changed_meanwhile)
    answer = httpx.post(f"{service.url}/api/session", json={"name": "gardener", "password": "glasshouse lane"})
    assert (answer.status_code, "changed just now" in answer.text, "Set-Cookie" in answer.headers) == (401, True, False)
    with service.app.database.reading() as connection:
        assert connection.exec_driver_sql("SELECT count(*) FROM sessions").scalar() == 0
