"""DOCX (ECMA-376): the text of the document, its headers, footers and notes."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from lxml import etree

from metrikon.core.templates.filling import BadTemplate, Given, Picture, Slot, filled
from metrikon.core.templates.packed import opened, packed, parsed, part, written

W = "{http://schemas.openxmlformats.org/wordprocessingml/2006/main}"
SPACE = "{http://www.w3.org/XML/1998/namespace}space"
_TEXTS = re.compile(r"word/(document|header\d*|footer\d*|footnotes|endnotes)\.xml")
_RELATIONS = "http://schemas.openxmlformats.org/package/2006/relationships"
_IMAGE = "http://schemas.openxmlformats.org/officeDocument/2006/relationships/image"
EMU, DOTS, WIDEST = 914_400, 200, 6.3  # units an inch, dots an inch of pictures, inches at most
_DRAWING = """<w:r xmlns:w="http://schemas.openxmlformats.org/wordprocessingml/2006/main"
 xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"
 xmlns:wp="http://schemas.openxmlformats.org/drawingml/2006/wordprocessingDrawing" xmlns:a="http://schemas.openxmlformats.org/drawingml/2006/main"
 xmlns:pic="http://schemas.openxmlformats.org/drawingml/2006/picture"><w:drawing><wp:inline distT="0" distB="0" distL="0" distR="0">
<wp:extent cx="{width}" cy="{height}"/><wp:docPr id="{number}" name="Picture {number}"/><a:graphic>
<a:graphicData uri="http://schemas.openxmlformats.org/drawingml/2006/picture"><pic:pic><pic:nvPicPr><pic:cNvPr id="{number}" name="Picture {number}"/>
<pic:cNvPicPr/></pic:nvPicPr><pic:blipFill><a:blip r:embed="{relation}"/><a:stretch><a:fillRect/></a:stretch></pic:blipFill><pic:spPr>
<a:xfrm><a:off x="0" y="0"/><a:ext cx="{width}" cy="{height}"/></a:xfrm><a:prstGeom prst="rect"><a:avLst/></a:prstGeom></pic:spPr></pic:pic>
</a:graphicData></a:graphic></wp:inline></w:drawing></w:r>"""


class WordForm:
    """The form of one part; pictures that are put in are kept until it is written."""

    def __init__(self, first: int) -> None:
        self.pictures: list[tuple[str, Picture]] = []  # the id of a relation, and what it leads to
        self._first = first

    def paragraphs(self, root: Any) -> Iterator[Any]:
        yield from root.iter(f"{W}p")

    def rows(self, root: Any) -> list[Any]:
        return list(root.iter(f"{W}tr"))

    def slots(self, paragraph: Any) -> list[Slot]:
        return [Slot(each) for each in paragraph.iter(f"{W}t") if next(each.iterancestors(f"{W}p")) is paragraph]

    def break_lines(self, slot: Slot) -> None:
        text, run = slot.element, slot.element.getparent()
        first, *others = slot.text.split("\n")
        slot.put(first)
        _keep_blanks(text)
        at = run.index(text) + 1
        for line in others:
            run.insert(at, etree.Element(f"{W}br"))
            made = etree.Element(f"{W}t")
            made.text = line
            _keep_blanks(made)
            run.insert(at + 1, made)
            at += 2

    def show(self, slot: Slot, before: str, picture: Picture, after: str) -> None:
        run = slot.element.getparent()
        slot.put(before)
        _keep_blanks(slot.element)
        number = self._first + len(self.pictures)
        relation = f"rIdMetrikon{number}"
        self.pictures.append((relation, picture))
        width = min(picture.width / DOTS, WIDEST)
        height = picture.height * width / max(1, picture.width)
        drawn = parsed(_DRAWING.format(number=9000 + number, relation=relation, width=int(width * EMU), height=int(height * EMU)).encode())
        run.addnext(drawn)
        if after:
            rest = etree.Element(f"{W}r")
            looks = run.find(f"{W}rPr")
            if looks is not None:
                rest.append(etree.fromstring(etree.tostring(looks)))
            text = etree.SubElement(rest, f"{W}t")
            text.text = after
            _keep_blanks(text)
            drawn.addnext(rest)


def _keep_blanks(text: Any) -> None:
    text.set(SPACE, "preserve")


def made(template: bytes, given: Given) -> tuple[bytes, list[str]]:
    """The document, and the holes that have no value; it is of no use when there are any. Raises `BadTemplate`."""
    archive = opened(template)
    names = [each for each in archive.namelist() if _TEXTS.fullmatch(each)]
    if "word/document.xml" not in names:
        raise BadTemplate("It is no DOCX document: it has no text.")
    changed: dict[str, bytes] = {}
    added: dict[str, bytes] = {}
    missing: dict[str, None] = {}
    endings: set[str] = set()
    shown = 1
    for name in names:
        root, form = parsed(part(archive, name)), WordForm(shown)
        missing |= dict.fromkeys(filled(root, form, given))
        for text in root.iter(f"{W}t"):
            if text.text and text.text != text.text.strip():
                _keep_blanks(text)
        changed[name] = written(root)
        if form.pictures:
            _relate(archive, name, form, shown, changed, added)
            endings |= {picture.ending for _, picture in form.pictures}
            shown += len(form.pictures)
    if endings:
        changed["[Content_Types].xml"] = _typed(part(archive, "[Content_Types].xml"), endings)
    return packed(archive, changed, added), list(missing)


def _relate(archive: Any, name: str, form: WordForm, first: int, changed: dict[str, bytes], added: dict[str, bytes]) -> None:
    """Keep the pictures of a part, and lead to them from it."""
    folder, _, file = name.rpartition("/")
    place = f"{folder}/_rels/{file}.rels"
    there = place in archive.namelist()
    root = parsed(part(archive, place)) if there else etree.fromstring(f'<Relationships xmlns="{_RELATIONS}"/>'.encode())
    for number, (relation, picture) in enumerate(form.pictures, first):
        target = f"media/metrikon-{number}.{picture.ending}"
        etree.SubElement(root, f"{{{_RELATIONS}}}Relationship", Id=relation, Type=_IMAGE, Target=target)
        added[f"word/{target}"] = picture.data
    (changed if there else added)[place] = written(root)


def _typed(data: bytes, endings: set[str]) -> bytes:
    """The list of types with those of pictures."""
    root = parsed(data)
    space = root.tag.partition("}")[0] + "}"
    known = {each.get("Extension", "").lower() for each in root.iter(f"{space}Default")}
    for ending in sorted(endings - known):
        made = etree.Element(f"{space}Default", Extension=ending, ContentType=f"image/{ending}")
        root.insert(0, made)
    return written(root)
