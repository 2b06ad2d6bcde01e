"""Connections by a person's consent: with PKCE, refreshed before they end, told when they can be refreshed no longer."""

from __future__ import annotations

import base64
import hashlib
import json
import secrets
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, urlencode, urlsplit

import httpx
import pytest

from metrikon.client import ServiceError
from metrikon.connections.fetching import FetchFailed, Wanted
from metrikon.service.auth import set_password
from tests.helpers import Running

SECRET = "saffron-crocus-17"


class Provider(ThreadingHTTPServer):
    """A server that gives tokens for consents, and a page that wants one."""

    daemon_threads = True

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), _Answers)
        self.url = f"http://127.0.0.1:{self.server_address[1]}"
        self.codes: dict[str, dict[str, str]] = {}
        self.refresh = ""  # that which is good now
        self.tokens: list[str] = []
        self.lasts = 3600
        self.withdrawn = False
        self.asked: list[str] = []
        threading.Thread(target=self.serve_forever, daemon=True, kwargs={"poll_interval": 0.02}).start()


class _Answers(BaseHTTPRequestHandler):
    server: Provider

    def log_message(self, *_: Any) -> None: ...

    def do_GET(self) -> None:
        parts = urlsplit(self.path)
        query = {name: values[0] for name, values in parse_qs(parts.query).items()}
        if parts.path == "/authorize":
            code = secrets.token_hex(8)
            self.server.codes[code] = query
            self._send(302, b"", ("Location", f"{query['redirect_uri']}?{urlencode({'code': code, 'state': query['state']})}"))
        else:
            good = self.headers.get("Authorization", "").removeprefix("Bearer ") in self.server.tokens
            self._send(200 if good else 401, b'{"plants": 3}')

    def do_POST(self) -> None:
        form = {name: values[0] for name, values in parse_qs(self.rfile.read(int(self.headers["Content-Length"])).decode()).items()}
        self.server.asked.append(form["grant_type"])
        known = self.headers.get("Authorization") == "Basic " + base64.b64encode(f"greenhouse:{SECRET}".encode()).decode()
        if form["grant_type"] == "authorization_code":
            asked = self.server.codes.pop(form["code"], {})
            challenge = base64.urlsafe_b64encode(hashlib.sha256(form["code_verifier"].encode()).digest()).rstrip(b"=").decode()
            good = known and challenge == asked.get("code_challenge") and form["redirect_uri"] == asked.get("redirect_uri")
        else:
            good = known and form["refresh_token"] == self.server.refresh and not self.server.withdrawn
        if not good:
            self._send(400, b'{"error": "invalid_grant", "error_description": "The grant is not good any more."}')
            return
        self.server.refresh = secrets.token_hex(8)
        self.server.tokens = [secrets.token_hex(8)]
        told = {"access_token": self.server.tokens[0], "expires_in": self.server.lasts, "refresh_token": self.server.refresh, "scope": "plants.read"}
        self._send(200, json.dumps(told).encode())

    def _send(self, status: int, body: bytes, *headers: tuple[str, str]) -> None:
        self.send_response(status)
        for name, value in (("Content-Type", "application/json"), ("Content-Length", str(len(body))), *headers):
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(body)


@pytest.fixture
def provider() -> Iterator[Provider]:
    made = Provider()
    yield made
    made.shutdown()
    made.server_close()


@pytest.fixture
def service(running: Callable[..., Running], provider: Provider) -> Running:
    service = running(fetch_private=True)
    made = service.client.put_connection(
        *("plants", provider.url),
        way="consent",
        secret=SECRET,
        user="greenhouse",
        token_url=f"{provider.url}/token",
        consent_url=f"{provider.url}/authorize",
        scope="plants.read",
        probe="me",
    )
    assert "Somebody must consent first" in made["told"]
    return service


@contextmanager
def _signed_in(service: Running, name: str = "gardener") -> Iterator[httpx.Client]:
    """Somebody who is signed in, as a browser is."""
    with httpx.Client(follow_redirects=True, timeout=30) as browser:
        browser.post(f"{service.url}/api/session", json={"name": name, "password": "glasshouse lane"}).raise_for_status()
        yield browser


def _consents(service: Running) -> httpx.Response:
    with _signed_in(service) as browser:
        return browser.get(service.client.begin_consent("plants"))


def _fetched(service: Running) -> bytes | None:
    return service.app.outside.fetch(Wanted("me", connection="plants")).data


def test_a_person_consents_once_and_flows_are_signed_in_from_then_on(service: Running, provider: Provider) -> None:
    answer = _consents(service)
    assert "The connection plants is signed in" in answer.text
    assert "which may plants.read" in service.client.connection("plants")["told"]
    assert _fetched(service) == b'{"plants": 3}'
    assert provider.refresh not in json.dumps(service.client.connection("plants"))
    service.client.new_key()
    assert _fetched(service) == b'{"plants": 3}'


def test_a_token_is_refreshed_before_it_ends_and_after_a_restart_by_the_newest(service: Running, provider: Provider) -> None:
    provider.lasts = 1
    _consents(service)
    for _ in range(2):
        service.app.connections._tokens._kept.clear()  # as when it has ended, or the service was started again
        assert _fetched(service) == b'{"plants": 3}'
    assert provider.asked == ["authorization_code", "refresh_token", "refresh_token"]


def test_one_that_can_be_refreshed_no_longer_is_told_with_what_to_do(service: Running, provider: Provider) -> None:
    _consents(service)
    provider.withdrawn = True
    service.app.connections._tokens._kept.clear()
    with pytest.raises(FetchFailed, match="It can be refreshed no longer: press “Consent”"):
        _fetched(service)
    assert any("refreshed no longer" in each for each in service.client.today()["problems"])
    provider.withdrawn = False
    _consents(service)
    assert service.client.connection("plants")["failing_since"] is None


def test_a_consent_that_nobody_began_or_that_was_used_is_refused(service: Running, provider: Provider) -> None:
    url = service.client.begin_consent("plants")
    came = httpx.get(url).headers["Location"]
    with _signed_in(service) as browser:
        assert browser.get(came).status_code == 200
        assert browser.get(came).status_code == 400, "each counts once"
        assert browser.get(f"{service.url}/consent?code=x&state=made-up").status_code == 400
        refused = browser.get(f"{service.url}/consent?error=access_denied&error_description=<b>no</b>&state=x")
    assert (refused.status_code, "<b>" in refused.text) == (400, False)


def test_a_consent_belongs_to_the_session_in_which_it_was_begun(service: Running, provider: Provider) -> None:
    set_password(service.app, "ida", "glasshouse lane", "builder")
    set_password(service.app, "emil", "glasshouse lane", "reviewer")
    with _signed_in(service) as gardener, _signed_in(service, "ida") as ida, _signed_in(service, "emil") as emil:
        csrf = {"X-CSRF-Token": gardener.get(f"{service.url}/api/session").json()["csrf"]}
        begun = gardener.post(f"{service.url}/api/connections/plants/consent", headers=csrf).json()["url"]
        came = httpx.get(begun).headers["Location"]
        nobody = httpx.get(came, follow_redirects=True)
        assert (nobody.status_code, "here=1" in nobody.text) == (200, True), "the same once more, with the cookie of a session"
        assert "Nobody is signed in here" in httpx.get(f"{came}&here=1").text
        assert "begun by somebody else" in ida.get(came).text
        assert "is signed in" in gardener.get(came).text, "whoever began it still may"
        by_command = httpx.get(service.client.begin_consent("plants")).headers["Location"]
        assert "begun by somebody else" in emil.get(by_command).text, "a reviewer may begin none"
        assert "is signed in" in ida.get(by_command).text


def test_a_code_that_was_caught_on_the_way_is_worth_nothing_without_its_verifier(service: Running, provider: Provider) -> None:
    came = httpx.get(service.client.begin_consent("plants")).headers["Location"]
    code = parse_qs(urlsplit(came).query)["code"][0]
    provider.codes[code]["code_challenge"] = "another"
    with _signed_in(service) as browser:
        assert "The grant is not good any more" in browser.get(came).text


def test_only_a_connection_by_consent_is_consented_to(service: Running, provider: Provider) -> None:
    service.client.put_connection("open", provider.url)
    with pytest.raises(ServiceError, match="for which nobody consents"):
        service.client.begin_consent("open")
