"""Access tokens of connections (OAuth 2, RFC 6749): asked for as a client, or by a person's consent with PKCE (RFC 7636); refreshed before they end."""

from __future__ import annotations

import base64
import hashlib
import secrets
import threading
import time
from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass
from urllib.parse import urlencode

import msgspec

from metrikon.connections.fetching import FetchFailed
from metrikon.connections.signing import Token, asked_token, token_of
from metrikon.core.flows.connecting import Way

OPEN = 600.0  # seconds that a person may take to consent
WANTED = "Somebody must consent first: press “Consent” beside the connection in Setup."


class Consent(msgspec.Struct):
    """The secret of a connection by consent: that of the client, and what tokens are refreshed by."""

    client: str = ""
    refresh: str = ""


@dataclass(frozen=True)
class _Asked:
    name: str
    verifier: str
    redirect: str
    until: float
    by: str  # who began it


def consent_in(secret: str) -> Consent:
    """What is sealed for a connection by consent."""
    try:
        return msgspec.json.decode(secret or "{}", type=Consent)
    except msgspec.MsgspecError:
        return Consent(secret)


class Tokens:
    """Keeps tokens until they end. `keep`: keeps the secret of a connection anew."""

    def __init__(self, keep: Callable[[str, str], None], *, private: bool) -> None:
        self._keep, self._private = keep, private
        self._kept: dict[str, tuple[int, Token]] = {}
        self._locks: defaultdict[str, threading.Lock] = defaultdict(threading.Lock)  # a slow server holds up its own connection alone
        self._asked: dict[str, _Asked] = {}

    def get(self, name: str, put_at: int, way: Way, secret: str) -> Token:
        """A token of a connection as it was put at a moment. Raises `FetchFailed`."""
        with self._locks[name]:
            kept = self._kept.get(name)
            if kept is None or kept[0] != put_at or kept[1].until < time.monotonic():
                self._kept.pop(name, None)
                token = token_of(way, secret, private=self._private) if way.kind == "client" else self._refreshed(name, way, secret)
                kept = self._kept[name] = (put_at, token)
            return kept[1]

    def known(self, name: str) -> Token | None:
        """The token at hand, if there is one."""
        kept = self._kept.get(name)
        return kept[1] if kept is not None else None

    def forget(self, name: str) -> None:
        """It may have been withdrawn: ask anew."""
        self._kept.pop(name, None)

    def _refreshed(self, name: str, way: Way, secret: str) -> Token:
        consent = consent_in(secret)
        if not consent.refresh:
            raise FetchFailed(WANTED)
        form = {"grant_type": "refresh_token", "refresh_token": consent.refresh}
        try:
            token, refresh = asked_token(way, consent.client, form, private=self._private)
        except FetchFailed as error:
            if error.cause:
                raise
            raise FetchFailed(f"{error} It can be refreshed no longer: press “Consent” beside the connection in Setup.") from error
        if refresh and refresh != consent.refresh:  # the one before is worth nothing from now on
            self._keep(name, msgspec.json.encode(Consent(consent.client, refresh)).decode())
        return token

    def begin(self, name: str, way: Way, redirect: str, by: str) -> str:
        """The address at which a person consents."""
        now = time.monotonic()
        self._asked = {state: each for state, each in self._asked.items() if each.until > now}
        state, verifier = secrets.token_urlsafe(24), secrets.token_urlsafe(48)
        self._asked[state] = _Asked(name, verifier, redirect, now + OPEN, by)
        challenge = base64.urlsafe_b64encode(hashlib.sha256(verifier.encode()).digest()).rstrip(b"=").decode()
        query = {
            "response_type": "code",
            "client_id": way.user,
            "redirect_uri": redirect,
            "state": state,
            "code_challenge": challenge,
            "code_challenge_method": "S256",
            **({"scope": way.scope} if way.scope else {}),
        }
        return f"{way.consent_url}{'&' if '?' in way.consent_url else '?'}{urlencode(query)}"

    def finish(self, state: str, code: str, opened: Callable[[str], tuple[int, Way, str]], by: str, *, builds: bool) -> str:
        """Take the code that came of a consent; the connection it is of. `opened`: when a connection was put, its way and its secret. `by`: who is signed in;
        a consent that a program began (with a token) is finished by anybody who may begin one (`builds`). Raises `FetchFailed`."""
        asked = self._asked.get(state)
        if asked is not None and asked.by != by and not (builds and "token " in asked.by):
            raise FetchFailed("This consent was begun by somebody else. Begin it yourself in Setup.")
        self._asked.pop(state, None)
        if asked is None or asked.until < time.monotonic():
            raise FetchFailed("This consent is not awaited, or no longer. Begin it once more in Setup.")
        put_at, way, secret = opened(asked.name)
        consent = consent_in(secret)
        form = {"grant_type": "authorization_code", "code": code, "redirect_uri": asked.redirect, "code_verifier": asked.verifier}
        token, refresh = asked_token(way, consent.client, form, private=self._private)
        if not refresh:
            raise FetchFailed("The server gave a token but nothing to refresh it by. Ask for that with the scope, such as offline_access.")
        self._keep(asked.name, msgspec.json.encode(Consent(consent.client, refresh)).decode())
        self._kept[asked.name] = (put_at, token)
        return asked.name
