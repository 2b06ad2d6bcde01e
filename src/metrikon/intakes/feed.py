"""A feed (RSS, Atom RFC 4287, JSON Feed 1.1): each entry once, asked for again only where it changed (RFC 9110, 13)."""

from __future__ import annotations

import calendar
import hashlib
import html
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from typing import Any

import feedparser

from metrikon.core.values.exact import NotJson, loads
from metrikon.core.values.text import clean
from metrikon.intakes.fetched import FromPage, page
from metrikon.ports.intake import Here, IntakeFailed, IntakeKind, Piece, Quiet, Thing

MOST = 5000  # entries that are looked at
LONGEST = 2000  # characters of what is told of an entry


class Feed(FromPage):
    """Entries of a feed."""

    called = ("rss", "atom")


class FeedSource(Quiet):
    """The entries of a feed; each is an item, its text a page."""

    def __init__(self, said: Feed, here: Here) -> None:
        self.said, self._calling, self._largest = said, here.calling, here.largest
        self.every = said.every
        self._known: dict[str, str] = {}
        self._fresh: dict[str, str] = {}

    def test(self) -> str:
        data = self._page(again=True)
        entries = list(_entries(data))
        return f"{self.said.url} is a feed with {len(entries)} entries{f', the latest “{entries[0].name}”' if entries else ''}."

    def there(self) -> Iterator[Thing]:
        yield from sorted(_entries(self._page(again=True)), key=lambda each: -each.at)

    def new(self, cursor: Any, moment: int) -> Iterator[Thing]:
        data = self._page(again=False)
        if data:
            yield from sorted(_entries(data, moment), key=lambda each: each.at)
        self._known = self._fresh  # all of it was looked at

    def get(self, thing: Thing) -> list[Piece]:
        return [Piece(thing.name, _as_page(thing.key).encode())]

    def _page(self, *, again: bool) -> bytes:
        found = page(self._calling, self.said.connection, self.said.url, self._largest, None if again else self._known)
        if found.data is None:
            return b""
        if not again:
            self._fresh = dict(found.validators)
        return found.data


def _entries(data: bytes, moment: int = 0) -> Iterator[Thing]:
    """The entries of a feed, as they stand in it. Raises `IntakeFailed`."""
    given = list(_as_json(data)) if data.lstrip()[:1] == b"{" else list(_as_xml(data))
    for each in given[:MOST]:
        at = each.pop("at") or moment
        name = clean(each["title"])[:120] or clean(each["link"])[:120] or "entry"
        told = each["id"] or each["link"] or "\n".join([each["title"], each["text"]])
        shown = {key: clean(str(value))[:LONGEST] for key, value in each.items() if key != "html"}
        shown["published"] = datetime.fromtimestamp(at / 1000, UTC).isoformat(timespec="seconds") if at else ""
        yield Thing(hashlib.sha256(told.encode()).hexdigest()[:40], f"{name}.html", at, len(each["html"]), shown, key={**each, **shown})


def _as_xml(data: bytes) -> Iterator[dict[str, Any]]:
    read = feedparser.parse(data)  # bytes: a text might be taken for the address of something
    if not read.get("version") and not read.entries:
        raise IntakeFailed("What is at this address is no feed: neither RSS nor Atom nor JSON Feed.")
    for each in read.entries:
        moment = each.get("published_parsed") or each.get("updated_parsed")
        contents = [part.get("value", "") for part in each.get("content", ()) if isinstance(part, Mapping)]
        text = str(each.get("summary", ""))
        yield {
            "id": str(each.get("id", "")),
            "title": str(each.get("title", "")),
            "link": str(each.get("link", "")),
            "author": str(each.get("author", "")),
            "text": text,
            "html": contents[0] if contents else text,
            "at": _milliseconds(moment),
        }


def _as_json(data: bytes) -> Iterator[dict[str, Any]]:
    try:
        read = loads(data)
    except NotJson as error:
        raise IntakeFailed(f"What is at this address is no feed: {error}.") from error
    entries = read.get("items") if isinstance(read, Mapping) and "jsonfeed.org" in str(read.get("version", "")) else None
    if not isinstance(entries, list):
        raise IntakeFailed("What is at this address is JSON, but no JSON Feed. A list in JSON is looked at by the intake `poll`.")
    for each in entries:
        if isinstance(each, Mapping):
            authors = [str(one.get("name", "")) for one in each.get("authors") or () if isinstance(one, Mapping)]
            text = str(each.get("content_text") or each.get("summary") or "")
            yield {
                "id": str(each.get("id") or ""),
                "title": str(each.get("title") or ""),
                "link": str(each.get("url") or each.get("external_url") or ""),
                "author": ", ".join(authors),
                "text": text,
                "html": str(each.get("content_html") or html.escape(text)),
                "at": _dated(str(each.get("date_published") or each.get("date_modified") or "")),
            }


def _milliseconds(moment: Any) -> int:
    try:
        return calendar.timegm(moment) * 1000 if moment else 0
    except (TypeError, ValueError, OverflowError):
        return 0


def _dated(text: str) -> int:
    try:
        found = datetime.fromisoformat(text)
    except ValueError:
        return 0
    return int((found if found.tzinfo else found.replace(tzinfo=UTC)).timestamp() * 1000)


def _as_page(entry: Mapping[str, Any]) -> str:
    """An entry as a page of its own, so that it is read like any other."""
    title, link, author, published = (html.escape(str(entry[name]), quote=True) for name in ("title", "link", "author", "published"))
    head = f'<head><meta charset="utf-8"><title>{title}</title><link rel="canonical" href="{link}"></head>'
    return f"<!doctype html><html>{head}<body><article><h1>{title}</h1><p>{author}</p><p>{published}</p>\n{entry['html']}\n</article></body></html>"


GIVES = {
    "id": "The id of the entry.",
    "title": "Its title.",
    "link": "Its address.",
    "author": "Who wrote it.",
    "text": "Its summary.",
    "published": "When it was published (RFC 3339, UTC); empty where that is not said.",
}
KIND = IntakeKind(
    "feed", Feed, lambda said: f"entries of the feed {said.url}", lambda said, home: str(said.url), FeedSource, reaches=True, gives=GIVES
)
