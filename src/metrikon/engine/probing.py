"""What a harmless call to a service tells of a connection: whether it answers, and whether the secret is what it answers to."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Any

from metrikon.connections.fetching import Fetched, FetchFailed
from metrikon.core.services.description import Operation
from metrikon.core.values.exact import NotJson, loads

CHAT = "_matrix/client"  # beneath which a chat's server answers (Matrix client-server API)
UNSEEN = (
    "It answers anybody, so that whether the secret is right was not seen: name with --probe an address that only those who are signed in may read."
)
Ask = Callable[[str, bool], Fetched]  # a path after the address of the connection, and whether one signs in; raises `FetchFailed`


@dataclass(frozen=True)
class Probe:
    """A connection that is tested: the path that is asked for, whether it has a secret that is sent along, and how it is called who that is."""

    path: str
    signs: bool
    who: str  # "; signed in as ada", or nothing
    operation: Operation | None = None  # of a described service, which changes nothing


def told(probe: Probe, ask: Ask) -> str:
    """What came of a test, in a sentence. Raises `FetchFailed`."""
    if probe.signs and not probe.path and (chat := _chat_told(ask)):
        return chat
    if probe.operation is not None and not probe.path:
        probe = replace(probe, path=probe.operation.path.lstrip("/"))
    start = time.monotonic()
    found = ask(probe.path, True)
    took = time.monotonic() - start
    kind = f", {found.media}" if found.media else ""
    what = f"The operation {probe.operation.name} at " if probe.operation is not None and probe.path == probe.operation.path.lstrip("/") else ""
    answered = f"{what}{found.url} answered {found.status} in {took:.2f} s{kind}"
    if probe.signs and _answers_anybody(probe.path, ask):
        return f"{answered}. {UNSEEN}"
    return f"{answered}{probe.who}."


def _answers_anybody(path: str, ask: Ask) -> bool:
    """Whether the same is answered without the secret. What cannot be asked so is taken for a no."""
    try:
        ask(path, False)
    except FetchFailed:
        return False
    return True


def _chat_told(ask: Ask) -> str:
    """What a chat's server says of who one is; nothing where it is none. Raises `FetchFailed` where the token is refused."""
    versions = _json(ask, f"{CHAT}/versions", signs=False)
    if not isinstance(versions.get("versions"), list):
        return ""
    found = ask(f"{CHAT}/v3/account/whoami", True)
    try:
        read = loads(found.data or b"")
    except NotJson:
        read = {}
    user = str(read.get("user_id", "")) if isinstance(read, Mapping) else ""
    return f"A chat's server (Matrix) answered{f'; signed in as {user}' if user else ', and did not say who one is'}."


def _json(ask: Ask, path: str, *, signs: bool) -> Mapping[str, Any]:
    try:
        read = loads(ask(path, signs).data or b"")
    except (FetchFailed, NotJson):
        return {}
    return read if isinstance(read, Mapping) else {}
