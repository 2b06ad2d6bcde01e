"""HTML: a page with holes in its text. What is put in is text, whatever signs it has; holes in addresses and styles are not looked for."""

from __future__ import annotations

import base64
from collections.abc import Iterator
from typing import Any

from lxml import etree, html

from metrikon.core.templates.filling import BadTemplate, Given, Picture, Slot, filled, put_behind
from metrikon.core.templates.packed import counted

LARGEST = 5_000_000  # bytes
_INLINE = (
    "a",
    "abbr",
    "b",
    "bdi",
    "bdo",
    "br",
    "cite",
    "code",
    "dfn",
    "em",
    "i",
    "img",
    "kbd",
    "mark",
    "q",
    "s",
    "samp",
    "small",
    "span",
    "strong",
    "sub",
    "sup",
    "time",
    "u",
    "var",
    "wbr",
)
_SILENT = ("script", "style", "template", "head", "title")


class PageForm:
    """The form of a page."""

    def paragraphs(self, root: Any) -> Iterator[Any]:
        for each in root.iter():
            if isinstance(each.tag, str) and each.tag not in (*_INLINE, *(tag for tag in _SILENT if tag != "title")):
                yield each

    def rows(self, root: Any) -> list[Any]:
        return list(root.iter("tr", "li"))

    def slots(self, paragraph: Any) -> list[Slot]:
        found = [Slot(paragraph)]
        for each in paragraph:
            if isinstance(each.tag, str) and each.tag in _INLINE:
                found += self.slots(each)
            found.append(Slot(each, behind=True))
        return found

    def break_lines(self, slot: Slot) -> None:
        first, *others = slot.text.split("\n")
        slot.put(first)
        for line in reversed(others):
            made = etree.Element("br")
            made.tail = line
            put_behind(slot, made)

    def show(self, slot: Slot, before: str, picture: Picture, after: str) -> None:
        slot.put(before)
        data = base64.b64encode(picture.data).decode()
        made = etree.Element("img", src=f"data:image/{picture.ending};base64,{data}", alt="", style="max-width: 100%")
        made.tail = after
        put_behind(slot, made)


def made(template: bytes, given: Given) -> tuple[bytes, list[str]]:
    """The page, and the holes that have no value; it is of no use when there are any. Raises `BadTemplate`."""
    if len(template) > LARGEST:
        raise BadTemplate(f"The page has more than {LARGEST / 1e6:.0f} MB.")
    try:
        root = html.document_fromstring(template.decode("utf-8-sig", "replace"), parser=html.HTMLParser(encoding="utf-8"))
    except (etree.ParserError, ValueError) as error:
        raise BadTemplate("It is no page: it holds nothing.") from error
    missing = filled(counted(root), PageForm(), given)
    return bytes(html.tostring(root, encoding="utf-8", doctype="<!doctype html>")), missing
