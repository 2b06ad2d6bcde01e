"""Files put on a server (WebDAV) so that a write that was cut off can be made good.

Many servers empty a file before they take what is put in its place: one whose sender is gone meanwhile is left cut off, and its rows are lost. So what is to be put
is kept beside it first, under a name of ours, until it is in place.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from typing import TypeVar
from urllib.parse import quote, unquote

from metrikon.connections import webdav
from metrikon.connections.fetching import FetchFailed
from metrikon.connections.webdav import Fetch

T = TypeVar("T")
_BEGINS = b"metrikon aside"
_HEAD = 1000  # bytes before those of the file


def aside(path: str) -> str:
    """The name of what is kept beside a file."""
    folder, _, name = path.rpartition("/")
    return f"{folder}/.{name}.metrikon".lstrip("/")


def replace(fetch: Fetch, connection: str, path: str, data: bytes, tag: str) -> int:
    """As `webdav.write`, with what is put kept beside it meanwhile, where the server allows that. It stays there when the write fails: then nobody knows how far it came."""
    beside = _keep(fetch, connection, path, data, tag)
    if beside == 507:
        return beside
    status = webdav.write(fetch, connection, path, data, tag)
    if 200 <= beside < 300:
        _let_go(fetch, connection, path)
    return status


def make_good(fetch: Fetch, connection: str, path: str, data: bytes | None, tag: str, most: int) -> tuple[bytes | None, str]:
    """A file as it is now and its tag, after a write of ours that was cut off was done again.

    It was, where the file holds no more than the beginning of what we were about to put, or is there no more; one that somebody has changed since is left as it is. `data` and `tag`: as it
    was read. Raises `FetchFailed`.
    """
    kept = _kept(fetch, connection, path, most)
    if kept is None:
        return data, tag
    wanted, before = kept
    cut = data is not None and tag != before and len(data) < len(wanted) and wanted.startswith(data)
    begun = cut or (data is None and bool(before))
    if begun:
        status = webdav.write(fetch, connection, path, wanted, tag)
        if status in (412, 423, 507):  # nothing may be written onto a file that is cut off
            why = {412: "somebody has just changed it", 423: "it is locked", 507: "its server has no room left"}[status]
            raise FetchFailed(f"{path} was left cut off and cannot be made good now: {why}. It is tried again.", cause="busy", status=status)
        data, tag = webdav.read(fetch, connection, path, most)
    _let_go(fetch, connection, path)
    return data, tag


def _keep(fetch: Fetch, connection: str, path: str, data: bytes, tag: str) -> int:
    """Keep beside a file what is to be put there; the status, 0 where the server does not allow it."""
    head = b" ".join((_BEGINS, hashlib.sha256(data).hexdigest().encode(), quote(tag).encode())) + b"\n"
    return _allowed(lambda: webdav.write(fetch, connection, aside(path), head + data, None), 0)


def _kept(fetch: Fetch, connection: str, path: str, most: int) -> tuple[bytes, str] | None:
    """What was to be put in the place of a file, whole, and the tag that it had before; None where there is none."""
    found = _allowed(lambda: webdav.read(fetch, connection, aside(path), most + _HEAD)[0], None)
    head, _, data = (found or b"").partition(b"\n")
    parts = head[len(_BEGINS) :].strip().decode("ascii", "replace").split(" ")
    if not head.startswith(_BEGINS) or parts[0] != hashlib.sha256(data).hexdigest():
        return None
    return data, unquote(parts[1]) if len(parts) > 1 else ""


def _let_go(fetch: Fetch, connection: str, path: str) -> None:
    """What was kept beside a file is wanted no more. Where it may not be removed, the next that is kept takes its place."""
    _allowed(lambda: webdav.remove(fetch, connection, aside(path)), None)


def _allowed(work: Callable[[], T], otherwise: T) -> T:
    """What comes of some work, or something else where the server does not allow it (a status of 4xx)."""
    try:
        return work()
    except FetchFailed as error:
        if 400 <= error.status < 500 and not error.cause:
            return otherwise
        raise
