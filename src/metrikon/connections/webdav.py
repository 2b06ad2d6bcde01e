"""Folders over WebDAV (RFC 4918): what is there, its bytes, and moving it; nothing else."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from email.utils import parsedate_to_datetime
from typing import Any
from urllib.parse import quote, unquote, urlsplit

from lxml import etree

from metrikon.connections.fetching import Fetched, FetchFailed, Wanted

Fetch = Callable[[Wanted], Fetched]
LISTED, MOST = 20_000_000, 50_000  # bytes of a listing, and files of a folder
SECONDS = 60.0
_ASKED = b"""<?xml version="1.0"?><propfind xmlns="DAV:"><prop><resourcetype/><getcontentlength/><getlastmodified/><getetag/></prop></propfind>"""
_DAV = "{DAV:}"


@dataclass(frozen=True)
class DavFile:
    """A file: its name, bytes, when it changed (milliseconds since 1970), and its tag."""

    name: str
    size: int
    at: int
    tag: str


def files(fetch: Fetch, connection: str, folder: str) -> Iterator[DavFile]:
    """The files of a folder. Raises `FetchFailed`."""
    found = fetch(_wanted(connection, f"{path_of(folder)}/", "PROPFIND", LISTED, _ASKED, {"Depth": "1", "Content-Type": "application/xml"}, (207,)))
    parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False)
    try:
        root = etree.fromstring(found.data or b"", parser)
    except etree.XMLSyntaxError as error:
        raise FetchFailed(f"{found.url} does not answer as WebDAV does.") from error
    for number, each in enumerate(root.findall(f"{_DAV}response")):
        if number > MOST:
            raise FetchFailed(f"The folder {folder} holds more than {MOST:,} files. Move some of them away.")
        file = _file(each)
        if file is not None:
            yield file


def _file(response: Any) -> DavFile | None:
    href = unquote(urlsplit(response.findtext(f"{_DAV}href") or "").path)
    name = href.rstrip("/").rpartition("/")[2]
    if href.endswith("/") or response.find(f".//{_DAV}resourcetype/{_DAV}collection") is not None or not name:
        return None
    size, changed = response.findtext(f".//{_DAV}getcontentlength") or "", response.findtext(f".//{_DAV}getlastmodified") or ""
    try:
        at = int(parsedate_to_datetime(changed).timestamp() * 1000)
    except (ValueError, TypeError):
        at = 0
    return DavFile(name, int(size) if size.isdecimal() and len(size) < 16 else 0, at, (response.findtext(f".//{_DAV}getetag") or changed)[:200])


def bytes_of(fetch: Fetch, connection: str, folder: str, name: str, most: int) -> bytes:
    """The bytes of a file. Raises `FetchFailed`."""
    return fetch(_wanted(connection, f"{path_of(folder)}/{quote(name)}", "GET", most)).data or b""


def read(fetch: Fetch, connection: str, path: str, most: int) -> tuple[bytes | None, str]:
    """The bytes of a file and its tag; None where there is none. Raises `FetchFailed`."""
    found = fetch(_wanted(connection, path_of(path), "GET", most, good=(200, 404)))
    if found.status == 404:
        return None, ""
    return found.data or b"", found.headers.get("etag") or found.headers.get("last-modified", "")


def write(fetch: Fetch, connection: str, path: str, data: bytes, tag: str | None) -> int:
    """Put a file in the place of the one with a tag, or where there is none, or (None) whatever is there; the status: 412 and 423 where it is another one, or locked.

    Raises `FetchFailed`.
    """
    guard = {} if tag is None else _guarded(tag)
    good = (200, 201, 204, 412, 423, 507)
    return fetch(_wanted(connection, path_of(path), "PUT", 100_000, data, {"Content-Type": "application/octet-stream", **guard}, good)).status


def remove(fetch: Fetch, connection: str, path: str, tag: str = "") -> bool:
    """Remove a file, if it is there; with a tag only the one that has it. False where it is another one, or locked. Raises `FetchFailed`."""
    guard = _guarded(tag) if tag else {}
    return fetch(_wanted(connection, path_of(path), "DELETE", 100_000, more=guard, good=(200, 202, 204, 404, 412, 423))).status not in (412, 423)


def _guarded(tag: str) -> dict[str, str]:
    """The head by which a call counts only for the file with a tag (RFC 9110, section 13.1); without a tag only where there is none."""
    if not tag:
        return {"If-None-Match": "*"}
    if tag.startswith('"'):
        return {"If-Match": tag}
    return {} if tag.startswith("W/") else {"If-Unmodified-Since": tag}


def make_folders(fetch: Fetch, connection: str, path: str) -> None:
    """Make the folders of a path that are not there. Raises `FetchFailed`."""
    folders = path_of(path).split("/")[:-1]
    for count in range(1, len(folders) + 1):
        fetch(_wanted(connection, f"{'/'.join(folders[:count])}/", "MKCOL", 100_000, good=(200, 201, 301, 405)))


def move(fetch: Fetch, connection: str, address: str, folder: str, name: str, to: str) -> bool:
    """Move a file into a folder within its own, never over another one; whether it was moved. Raises `FetchFailed`."""
    made = _wanted(connection, f"{path_of(folder)}/{quote(to)}/", "MKCOL", 100_000, good=(201, 405))
    fetch(made)
    target = f"{address.rstrip('/')}/{path_of(folder)}/{quote(to)}/{quote(name)}"
    moved = _wanted(
        connection, f"{path_of(folder)}/{quote(name)}", "MOVE", 100_000, None, {"Destination": target, "Overwrite": "F"}, (201, 204, 404, 412)
    )
    return fetch(moved).status != 412


def path_of(folder: str) -> str:
    """A folder as part of an address."""
    return "/".join(quote(part) for part in folder.split("/") if part not in ("", ".", ".."))


def _wanted(
    connection: str, path: str, method: str, most: int, body: bytes | None = None, more: dict[str, str] | None = None, good: tuple[int, ...] = (200,)
) -> Wanted:
    return Wanted(path, most, SECONDS, redirects=0, connection=connection, method=method, body=body, more=more or {}, good=good)
