"""ODT (OpenDocument 1.3): the text of the document, and that of headers and footers, which stand among its styles."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from lxml import etree

from metrikon.core.templates.filling import BadTemplate, Given, Picture, Slot, filled, put_behind
from metrikon.core.templates.packed import opened, packed, parsed, part, written

_SPACES = {
    name: f"{{urn:oasis:names:tc:opendocument:xmlns:{space}:1.0}}"
    for name, space in (("text", "text"), ("table", "table"), ("draw", "drawing"), ("svg", "svg-compatible"), ("manifest", "manifest"))
}
TEXT, TABLE, DRAW, SVG, MANIFEST = (_SPACES[name] for name in ("text", "table", "draw", "svg", "manifest"))
XLINK = "{http://www.w3.org/1999/xlink}"
_PARAGRAPHS = (f"{TEXT}p", f"{TEXT}h")
DOTS, WIDEST = 200, 16.0  # dots an inch of pictures, centimetres at most


class OpenForm:
    """The form of one part; pictures that are put in are kept until it is written."""

    def __init__(self, first: int) -> None:
        self.pictures: list[tuple[str, Picture]] = []
        self._first = first

    def paragraphs(self, root: Any) -> Iterator[Any]:
        yield from root.iter(*_PARAGRAPHS)

    def rows(self, root: Any) -> list[Any]:
        return list(root.iter(f"{TABLE}table-row"))

    def slots(self, paragraph: Any) -> list[Slot]:
        found = [Slot(paragraph)]
        for each in paragraph.iterdescendants():
            own = next((above for above in each.iterancestors(*_PARAGRAPHS)), None) is paragraph
            if own and isinstance(each.tag, str) and each.tag not in _PARAGRAPHS:
                found.append(Slot(each))
            if own:
                found.append(Slot(each, behind=True))
        return _in_order(paragraph, found)

    def break_lines(self, slot: Slot) -> None:
        first, *others = slot.text.split("\n")
        slot.put(first)
        for line in reversed(others):
            made = etree.Element(f"{TEXT}line-break")
            made.tail = line
            put_behind(slot, made)

    def show(self, slot: Slot, before: str, picture: Picture, after: str) -> None:
        slot.put(before)
        number = self._first + len(self.pictures)
        place = f"Pictures/metrikon-{number}.{picture.ending}"
        self.pictures.append((place, picture))
        width = min(picture.width / DOTS * 2.54, WIDEST)
        height = picture.height * width / max(1, picture.width)
        frame = etree.Element(
            f"{DRAW}frame",
            {f"{DRAW}name": f"Picture {number}", f"{TEXT}anchor-type": "as-char", f"{SVG}width": f"{width:.2f}cm", f"{SVG}height": f"{height:.2f}cm"},
        )
        etree.SubElement(
            frame, f"{DRAW}image", {f"{XLINK}href": place, f"{XLINK}type": "simple", f"{XLINK}show": "embed", f"{XLINK}actuate": "onLoad"}
        )
        frame.tail = after
        put_behind(slot, frame)


def _in_order(paragraph: Any, found: list[Slot]) -> list[Slot]:
    """Pieces of text in the order in which they are read: what stands behind an element comes after all that is in it."""
    wanted = {(id(slot.element), slot.behind): slot for slot in found}
    ordered: list[Slot] = []

    def walk(element: Any) -> None:
        if (id(element), False) in wanted:
            ordered.append(wanted[id(element), False])
        for each in element:
            walk(each)
            if (id(each), True) in wanted:
                ordered.append(wanted[id(each), True])

    walk(paragraph)
    return ordered


def made(template: bytes, given: Given) -> tuple[bytes, list[str]]:
    """The document, and the holes that have no value; it is of no use when there are any. Raises `BadTemplate`."""
    archive = opened(template)
    if "content.xml" not in archive.namelist():
        raise BadTemplate("It is no ODT document: it has no text.")
    changed: dict[str, bytes] = {}
    added: dict[str, bytes] = {}
    missing: dict[str, None] = {}
    shown = 1
    for name in ("content.xml", "styles.xml"):
        if name not in archive.namelist():
            continue
        root, form = parsed(part(archive, name)), OpenForm(shown)
        missing |= dict.fromkeys(filled(root, form, given))
        changed[name] = written(root)
        added |= {place: picture.data for place, picture in form.pictures}
        shown += len(form.pictures)
    if added:
        changed["META-INF/manifest.xml"] = _listed(part(archive, "META-INF/manifest.xml"), added)
    return packed(archive, changed, added), list(missing)


def _listed(data: bytes, added: dict[str, bytes]) -> bytes:
    root = parsed(data)
    for place in added:
        kind = f"image/{place.rpartition('.')[2]}"
        etree.SubElement(root, f"{MANIFEST}file-entry", {f"{MANIFEST}full-path": place, f"{MANIFEST}media-type": kind})
    return written(root)
