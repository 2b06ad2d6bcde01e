"""The door that speaks TLS is shut by nobody: not by those who begin no handshake, nor by slow ones, nor by one address that holds many."""

from __future__ import annotations

import socket
import ssl
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from pathlib import Path

import httpx
import pytest

from metrikon.service import channels, secure
from tests.certificates import self_signed
from tests.conftest import Running
from tests.helpers import eventually


@pytest.fixture
def certificate(tmp_path: Path) -> tuple[Path, Path]:
    return self_signed(tmp_path)


@pytest.fixture
def door(running: Callable[..., Running], certificate: tuple[Path, Path]) -> str:
    return running(tls_certificate=str(certificate[0]), tls_key=str(certificate[1]), tls_port=0).secure_url


@pytest.fixture
def trusting(certificate: tuple[Path, Path]) -> ssl.SSLContext:
    return ssl.create_default_context(cafile=str(certificate[0]))


@pytest.fixture
def stack() -> Iterator[ExitStack]:
    with ExitStack() as held:
        yield held


def _plain(url: str, stack: ExitStack) -> socket.socket:
    return stack.enter_context(socket.create_connection(("127.0.0.1", int(url.rsplit(":", 1)[1])), timeout=10))


def test_two_hundred_connections_that_begin_no_handshake_keep_nobody_waiting(door: str, trusting: ssl.SSLContext, stack: ExitStack) -> None:
    for _ in range(200):
        _plain(door, stack)
    began = time.monotonic()
    assert httpx.get(f"{door}/health", verify=trusting, timeout=10).status_code == 200
    assert time.monotonic() - began < 2


def test_a_handshake_that_never_comes_is_ended_and_of_one_address_few_are_under_way(
    door: str, stack: ExitStack, monkeypatch: pytest.MonkeyPatch
) -> None:
    first = _plain(door, stack)
    for _ in range(secure.UNDER_WAY + 5):
        _plain(door, stack)
    first.settimeout(5)
    assert first.recv(1) == b""  # it gave way
    monkeypatch.setattr(secure, "HANDSHAKE", 0.3)
    late = _plain(door, stack)
    late.settimeout(5)
    assert late.recv(1) == b""


def test_requests_over_tls_that_drip_are_let_go_and_others_are_answered_meanwhile(
    door: str, trusting: ssl.SSLContext, stack: ExitStack, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(channels, "PATIENCE", 1.0)
    slow = [stack.enter_context(trusting.wrap_socket(_plain(door, stack), server_hostname="127.0.0.1")) for _ in range(20)]
    for each in slow:
        each.sendall(b"GET /health HTTP/1.1\r\n")
    assert httpx.get(f"{door}/health", verify=trusting, timeout=10).status_code == 200

    def gone() -> bool:
        ended = 0
        for each in slow:
            each.settimeout(0.05)
            try:
                each.sendall(b"x")
                ended += each.recv(10) == b""
            except TimeoutError:
                continue
            except OSError:
                ended += 1
        return ended == len(slow)

    eventually(gone, 20, pause=0.3)


def test_an_address_holds_at_most_a_hundred_over_tls_too(door: str, trusting: ssl.SSLContext, stack: ExitStack) -> None:
    held = [stack.enter_context(trusting.wrap_socket(_plain(door, stack), server_hostname="127.0.0.1")) for _ in range(channels.MOST_OF_ONE + 1)]
    held[0].settimeout(10)
    assert held[0].recv(1) == b""


def test_a_large_answer_and_a_large_upload_come_whole_and_the_address_is_that_of_who_asks(door: str, trusting: ssl.SSLContext) -> None:
    with httpx.Client(verify=trusting, timeout=30) as http:
        signed = http.post(f"{door}/api/session", json={"name": "gardener", "password": "glasshouse lane"})
        assert "Secure" in signed.headers["Set-Cookie"]
        assert len(http.get(f"{door}/api/openapi.json").content) > 100_000
        assert http.post(f"{door}/api/session", content=b"x" * 3_000_000).status_code in (400, 413, 415, 422)
