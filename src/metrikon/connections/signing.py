"""Signing in at an outside service: what is sent along, to its own origin alone."""

from __future__ import annotations

import base64
import binascii
import hashlib
import hmac
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from metrikon.connections.fetching import FetchFailed, posted
from metrikon.core.flows.connecting import Way, origin
from metrikon.core.values.exact import NotJson, loads

SECRET_MARK = "whsec_"  # noqa: S105  (with which a key of Standard Webhooks begins)
EARLY = 30.0  # seconds before its end that a token is asked for anew
USUAL, LONGEST = 300.0, 86_400.0  # seconds that a token is used: when its server does not say, and at most


@dataclass(frozen=True)
class Signed:
    """Headers and parameters that are sent to one origin, and to no other; they hold a secret, and are shown nowhere."""

    to: tuple[str, str, int]
    headers: Mapping[str, str] = field(default_factory=dict, repr=False)
    parameters: Mapping[str, str] = field(default_factory=dict, repr=False)
    certificate: str = field(default="", repr=False)
    secrets: tuple[str, ...] = field(default=(), repr=False)  # that are never to be seen, in whatever leaves the connection


@dataclass(frozen=True)
class Token:
    """An access token (RFC 6749, 5.1), until when it is used (by `time.monotonic`), and what it lets one do, as its server says."""

    value: str = field(repr=False)
    until: float
    scope: str = ""


def signed(address: str, way: Way, secret: str, token: Callable[[], Token]) -> Signed:
    """What is sent along to an address. `token`: an access token, where one is wanted; raises `FetchFailed` from it."""
    to = origin(address)
    known = (secret,) if secret else ()
    if way.kind == "bearer":
        return Signed(to, {"Authorization": f"Bearer {secret}"}, secrets=known)
    if way.kind == "basic":
        return Signed(to, {"Authorization": f"Basic {base64.b64encode(f'{way.user}:{secret}'.encode()).decode()}"}, secrets=known)
    if way.kind == "header":
        return Signed(to, {way.name: secret}, secrets=known)
    if way.kind == "query":
        return Signed(to, {}, {way.name: secret}, secrets=known)
    if way.kind == "certificate":
        return Signed(to, certificate=secret, secrets=known)
    if way.kind in ("client", "consent"):
        value = token().value
        return Signed(to, {"Authorization": f"Bearer {value}"}, secrets=(value, *known))
    return Signed(to, secrets=known)


def signature(secret: str, id_: str, at: int, body: bytes) -> str:
    """The signature of what is sent (Standard Webhooks): `v1,` and an HMAC in base64."""
    try:
        key = base64.b64decode(secret.removeprefix(SECRET_MARK), validate=True)
    except binascii.Error:
        key = secret.encode()
    made = hmac.new(key, f"{id_}.{at}.".encode() + body, hashlib.sha256).digest()
    return f"v1,{base64.b64encode(made).decode()}"


def signed_payload(secret: str, id_: str, at: int, body: bytes) -> dict[str, str]:
    """The headers by which a payload is signed: its id, seconds since 1970, and the signature."""
    return {"webhook-id": id_, "webhook-timestamp": str(at), "webhook-signature": signature(secret, id_, at, body)}


def token_of(way: Way, secret: str, *, private: bool) -> Token:
    """An access token for a client (RFC 6749, 4.4). Raises `FetchFailed`, with the error that the server names."""
    return asked_token(way, secret, {"grant_type": "client_credentials", **({"scope": way.scope} if way.scope else {})}, private=private)[0]


def asked_token(way: Way, secret: str, form: Mapping[str, str], *, private: bool) -> tuple[Token, str]:
    """An access token, and what it is refreshed by (RFC 6749, 5.1). Without a secret the client only says who it is. Raises `FetchFailed`."""
    login = base64.b64encode(f"{way.user}:{secret}".encode()).decode()
    proof = {"Authorization": f"Basic {login}"} if secret else {}
    answer = posted(way.token_url, {**form, **({} if secret else {"client_id": way.user})}, {**proof, "Accept": "application/json"}, private=private)
    try:
        told = loads(answer.data or b"")
    except NotJson as error:
        raise FetchFailed(f"{way.token_url} gave no token: its answer is no JSON.", cause="busy" if answer.status >= 500 else "") from error
    value = told.get("access_token") if isinstance(told, dict) else None
    if answer.status != 200 or not isinstance(value, str) or not (value.isascii() and value.isprintable()):
        why = told.get("error_description") or told.get("error") if isinstance(told, dict) else None
        cause = "busy" if answer.status in (429, 503) or answer.status >= 500 else ""
        raise FetchFailed(
            f"{way.token_url} gave no token to {way.user}: it answered {answer.status}{f', {str(why)[:200]}' if why else ''}.", cause=cause
        )
    lasts, refresh = told.get("expires_in"), told.get("refresh_token")
    seconds = min(float(lasts), LONGEST) if isinstance(lasts, int) and lasts > 0 else USUAL
    token = Token(value, time.monotonic() + max(seconds - EARLY, seconds / 2), str(told.get("scope") or way.scope))
    return token, refresh if isinstance(refresh, str) else ""
