"""Facts that a page carries for programs: JSON-LD, microdata, RDFa Lite, and its meta elements."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from lxml import etree

from metrikon.core.documents.model import Fact
from metrikon.core.values.exact import NotJson, loads
from metrikon.core.values.text import clean

MOST = 3000
DEEPEST = 20
_META = (
    "description",
    "author",
    "date",
    "keywords",
    "article:published_time",
    "article:modified_time",
    "article:author",
    "og:title",
    "og:description",
    "og:site_name",
    "og:price:amount",
    "og:price:currency",
    "product:price:amount",
    "product:price:currency",
)


def page_facts(root: etree._Element, warnings: list[str]) -> list[Fact]:
    """All facts of a page, those made for programs first."""
    found: list[Fact] = []
    for number, element in enumerate(root.iter("script")):
        if "ld+json" in (element.get("type") or "").lower():
            try:
                value = loads((element.text or "").strip())
            except NotJson:
                warnings.append("The page carries JSON-LD that is no JSON; it is left aside.")
                continue
            found += _json_ld(value, f"/{number}", 0)
    found += _microdata(root)
    found += _rdfa(root)
    found += _meta(root)
    found += _times(root)
    if len(found) > MOST:
        warnings.append(f"The page carries {len(found)} facts; the first {MOST} are taken.")
    return found[:MOST]


def _times(root: etree._Element) -> Iterator[Fact]:
    """Moments that the page tells programs beside the words for people (HTML, the `time` element)."""
    for number, element in enumerate(root.iter("time")):
        value = clean(element.get("datetime", ""))
        if value:
            yield Fact("microdata", f"/time/{number}", clean(" ".join(str(text) for text in element.itertext()))[:80] or "time", value[:80])


def _json_ld(value: Any, path: str, depth: int) -> Iterator[Fact]:
    if depth > DEEPEST:
        return
    if isinstance(value, list):
        for number, part in enumerate(value):
            yield from _json_ld(part, f"{path}/{number}", depth + 1)
    elif isinstance(value, Mapping):
        kind = value.get("@type")
        for name, part in value.items():
            if name in ("@context", "@id"):
                continue
            inner = f"{path}/{name}"
            if isinstance(part, Mapping | list):
                yield from _json_ld(part, inner, depth + 1) if not _plain_list(part) else _each(part, inner, str(name))
            elif part is not None and name != "@type":
                label = f"{kind} {name}" if isinstance(kind, str) else str(name)
                yield Fact("json-ld", inner, label, clean(("true" if part else "false") if isinstance(part, bool) else str(part)))
            elif name == "@type":
                yield Fact("json-ld", inner, "type", clean(str(part)))


def _plain_list(part: Any) -> bool:
    return isinstance(part, list) and all(not isinstance(each, Mapping | list) for each in part)


def _each(part: Any, path: str, name: str) -> Iterator[Fact]:
    for number, each in enumerate(part):
        if each is not None:
            yield Fact("json-ld", f"{path}/{number}", name, clean(str(each)))


def _value(element: etree._Element) -> str:
    """The value of an element that carries a property (HTML, 5.2.3)."""
    for attribute in ("content", "datetime", "value"):
        if element.get(attribute):
            return clean(str(element.get(attribute)))
    if element.tag in ("a", "link", "area"):
        return clean(str(element.get("href") or ""))
    if element.tag in ("img", "audio", "video", "source", "embed"):
        return clean(str(element.get("src") or ""))
    return clean(" ".join(str(text) for text in element.itertext()))[:2000]


def _microdata(root: etree._Element) -> Iterator[Fact]:
    for element in root.iter():
        if not isinstance(element.tag, str) or not element.get("itemprop") or "itemscope" in element.attrib:
            continue
        holder = next((e for e in element.iterancestors() if "itemscope" in e.attrib), None)
        kind = str(holder.get("itemtype") or "").rstrip("/").rsplit("/", 1)[-1] if holder is not None else ""
        value = _value(element)
        for name in str(element.get("itemprop")).split():
            if value:
                yield Fact("microdata", f"/{kind}/{name}" if kind else f"/{name}", f"{kind} {name}".strip(), value)


def _rdfa(root: etree._Element) -> Iterator[Fact]:
    for element in root.iter():
        if not isinstance(element.tag, str) or not element.get("property") or element.tag == "meta" or "typeof" in element.attrib:
            continue
        holder = next((e for e in element.iterancestors() if e.get("typeof")), None)
        if holder is None:
            continue
        kind, value = str(holder.get("typeof")).split(":")[-1], _value(element)
        if value:
            name = str(element.get("property")).split(":")[-1]
            yield Fact("rdfa", f"/{kind}/{name}", f"{kind} {name}", value)


def _meta(root: etree._Element) -> Iterator[Fact]:
    title = root.find(".//title")
    if title is not None and clean(title.text or ""):
        yield Fact("meta", "/title", "Title", clean(title.text or ""))
    for element in root.iter("meta"):
        name = str(element.get("name") or element.get("property") or "").lower()
        if name in _META and clean(element.get("content", "")):
            yield Fact("meta", f"/{name}", name.split(":")[-1].replace("_", " ").capitalize(), clean(element.get("content", ""))[:2000])
    for element in root.iter("link"):
        if str(element.get("rel") or "").lower() == "canonical" and element.get("href"):
            yield Fact("meta", "/canonical", "Address", clean(str(element.get("href"))))
    language = root.get("lang")
    if language:
        yield Fact("meta", "/lang", "Language", clean(language)[:20])
