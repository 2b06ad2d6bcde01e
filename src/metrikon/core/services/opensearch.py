"""Search services that describe themselves (OpenSearch 1.1): the template of an address, filled; and what they answer, as RSS 2.0 or Atom (RFC 4287)."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote, urljoin

import feedparser
from lxml import etree

from metrikon.core.values.text import clean

SPACE = "{http://a9.com/-/spec/opensearch/1.1/}"
_FORMS = ("application/atom+xml", "application/rss+xml")
_PART = re.compile(r"\{([A-Za-z:]+)(\??)\}")
_TAG = re.compile(r"<[^>]*>")
LARGEST = 5_000_000  # bytes of a description or of a page of results


class BadSearch(ValueError):
    """A description or an answer that cannot be used; the message says why."""


@dataclass(frozen=True)
class Search:
    """How a service is searched: the template of an address, and where its counting begins."""

    template: str
    first: int = 1
    first_page: int = 1

    @property
    def paged(self) -> bool:
        """Whether more than the first page can be asked for."""
        return "{startIndex" in self.template or "{startPage" in self.template

    def address(self, words: str, start: int, page: int, count: int) -> str:
        """The address of results from number `start`, on page `page` (both from 0). Raises `BadSearch` for what the template wants besides."""
        values = {
            "searchTerms": words,
            "count": str(count),
            "startIndex": str(self.first + start),
            "startPage": str(self.first_page + page),
            "language": "*",
            "inputEncoding": "UTF-8",
            "outputEncoding": "UTF-8",
        }

        def put(match: re.Match[str]) -> str:
            name, optional = match.group(1), match.group(2)
            if name == "count" and optional:
                return ""
            if name in values:
                return quote(values[name], safe="")
            if optional:
                return ""
            raise BadSearch(f"The service wants {name!r} for a search, which is not known here.")

        return _PART.sub(put, self.template)


def search_in(data: bytes, base: str) -> Search:
    """How the service of a description is searched. `base`: where the description was. Raises `BadSearch`."""
    try:
        root = etree.fromstring(data[: LARGEST + 1], etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False))
    except etree.XMLSyntaxError as error:
        raise BadSearch(f"It is no XML: {error.msg}.") from error
    if root.tag != f"{SPACE}OpenSearchDescription":
        raise BadSearch("It is no OpenSearch description.")
    found = {
        str(each.get("type", "")).partition(";")[0].strip(): each for each in root.iter(f"{SPACE}Url") if each.get("rel", "results") == "results"
    }
    form = next((each for each in _FORMS if each in found), None)
    if form is None:
        raise BadSearch(f"It gives its results neither as RSS nor as Atom, but as {', '.join(sorted(found)) or 'nothing'}.")
    url = found[form]
    template = urljoin(base, str(url.get("template", "")))
    if "{searchTerms" not in template:
        raise BadSearch("Its address has no place for the words that are searched for.")
    return Search(template.replace("%7B", "{").replace("%7D", "}"), _whole(url.get("indexOffset")), _whole(url.get("pageOffset")))


def _whole(text: Any) -> int:
    return int(text) if isinstance(text, str) and text.isdecimal() else 1


def results_in(data: bytes, base: str) -> tuple[list[dict[str, str]], int | None]:
    """The results on a page: title, address, text; and how many there are in all, where that is told. Raises `BadSearch`."""
    parsed = feedparser.parse(data, sanitize_html=False, resolve_relative_uris=False)
    if not parsed.get("version") and not parsed.entries:
        raise BadSearch("It answers neither as RSS nor as Atom.")
    found = [
        {
            "title": _text(each.get("title")),
            "address": urljoin(base, str(each.get("link", ""))),
            "text": _text(each.get("summary")),
        }
        for each in parsed.entries
    ]
    total = next((str(value).strip() for name, value in parsed.feed.items() if name.endswith("totalresults")), "")  # behind a prefix of its own
    return found, int(total) if total.isdecimal() and len(total) < 16 else None


def _text(value: Any) -> str:
    return " ".join(clean(_TAG.sub(" ", str(value or ""))).split())[:2000]
