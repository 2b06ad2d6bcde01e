"""DOCX (ECMA-376): paragraphs and tables in the order of the text, headers and footers, what is crossed out or hidden."""

from __future__ import annotations

import zipfile
from collections.abc import Iterator
from typing import Any

from lxml import etree

from metrikon.core.documents.model import Document, Hidden, Link
from metrikon.core.documents.setting import Block, Grid, Paragraph, Piece
from metrikon.core.documents.types import header_row
from metrikon.core.values.text import clean
from metrikon.ports.reader import Limits
from metrikon.readers.building import Carried, built
from metrikon.readers.packed import check_archive, member_xml

_W = "{http://schemas.openxmlformats.org/wordprocessingml/2006/main}"
_R = "{http://schemas.openxmlformats.org/officeDocument/2006/relationships}"
_OFF = {"0", "false", "none", "off"}


class WordReader:
    """Reads DOCX. Macros, embedded objects and fields are left where they are."""

    formats: tuple[str, ...] = ("docx",)

    def read(self, data: bytes, sha256: str, limits: Limits) -> Document:
        """Header, text, footer; tracked deletions and hidden runs are told of as hidden."""
        archive = check_archive(data, limits)
        names = set(archive.namelist())
        links = _addresses(archive, limits)
        walk = _Walk(links)
        blocks: list[Block] = []
        for member in sorted(n for n in names if n.startswith("word/header") and n.endswith(".xml")):
            blocks += walk.blocks(member_xml(archive, member, limits))
        blocks += walk.blocks(member_xml(archive, "word/document.xml", limits))
        for member in sorted(n for n in names if n.startswith(("word/footer", "word/footnotes")) and n.endswith(".xml")):
            blocks += walk.blocks(member_xml(archive, member, limits))
        carried = Carried(links=tuple(walk.links), hidden=tuple(walk.hidden))
        if not blocks:
            carried.warnings.append("The document holds no text.")
        return built(sha256, "docx", blocks, limits, carried)


def _addresses(archive: zipfile.ZipFile, limits: Limits) -> dict[str, str]:
    member = "word/_rels/document.xml.rels"
    if member not in archive.namelist():
        return {}
    root = member_xml(archive, member, limits)
    return {str(each.get("Id")): str(each.get("Target")) for each in root if each.get("TargetMode") == "External"}


class _Walk:
    """Goes through the parts of a document and gathers what is seen, what points elsewhere and what is hidden."""

    def __init__(self, addresses: dict[str, str]) -> None:
        self.addresses = addresses
        self.links: list[Link] = []
        self.hidden: list[Hidden] = []

    def blocks(self, root: etree._Element) -> list[Block]:
        body = root.find(f"{_W}body")
        return list(self._blocks(body if body is not None else root, 0))

    def _blocks(self, parent: etree._Element, depth: int) -> Iterator[Block]:
        if depth > 20:
            return
        for element in parent:
            if element.tag == f"{_W}p":
                pieces = tuple(self._pieces(element))
                if any(clean(piece.text) for piece in pieces):
                    styled = element.find(f"{_W}pPr/{_W}pStyle")
                    heading = styled is not None and str(styled.get(f"{_W}val", "")).lower().startswith(("heading", "title"))
                    yield Paragraph(_marked(element, pieces), 1 if heading else 0)
                for inner in element.iter(f"{_W}txbxContent"):
                    if next(inner.iterancestors(f"{_W}p")) is element:  # one within another is reached through that one
                        yield from self._blocks(inner, depth + 1)
            elif element.tag == f"{_W}tbl":
                yield self._grid(element, depth)
            elif element.tag in (f"{_W}sdt", f"{_W}sdtContent", f"{_W}footnote", f"{_W}ins", f"{_W}customXml", f"{_W}smartTag"):
                yield from self._blocks(element, depth + 1)

    def _grid(self, table: etree._Element, depth: int) -> Grid:
        rows = []
        for row in table.iter(f"{_W}tr"):
            if next(row.iterancestors(f"{_W}tbl")) is not table:
                continue
            cells: list[str] = []
            for cell in row.findall(f"{_W}tc"):
                span = cell.find(f"{_W}tcPr/{_W}gridSpan")
                paragraphs = (clean(" ".join(p.text for p in self._pieces(each))) for each in cell.iter(f"{_W}p"))
                cells.append("\n".join(text for text in paragraphs if text))
                cells += [""] * (
                    min(int(span.get(f"{_W}val", "1")), 60) - 1 if span is not None and str(span.get(f"{_W}val", "1")).isdecimal() else 0
                )
            rows.append(tuple(cells))
        wide = max((len(row) for row in rows), default=0)
        rows = [row + ("",) * (wide - len(row)) for row in rows]
        if header_row(rows):
            return Grid(rows[0], tuple(rows[1:]))
        return Grid((), tuple(rows))

    def _pieces(self, paragraph: etree._Element) -> Iterator[Piece]:
        for run in paragraph.iter(f"{_W}r"):
            if next(run.iterancestors(f"{_W}p")) is not paragraph:
                continue
            text = "".join(_text(part) for part in run)
            if not text:
                continue
            settings = run.find(f"{_W}rPr")
            if any(True for _ in run.iterancestors(f"{_W}del")) or run.find(f"{_W}delText") is not None:
                self._hide(text, "it was deleted with changes tracked")
            elif (why := _invisible(settings)) is not None:
                self._hide(text, why)
            else:
                link = next(run.iterancestors(f"{_W}hyperlink"), None)
                address = self.addresses.get(str(link.get(f"{_R}id"))) if link is not None else None
                if address:
                    self.links.append(Link(clean(text), address))
                yield Piece(text, _on(settings, "strike") or _on(settings, "dstrike"))

    def _hide(self, text: str, why: str) -> None:
        if clean(text):
            self.hidden.append(Hidden(clean(text), why))


def _marked(paragraph: etree._Element, pieces: tuple[Piece, ...]) -> tuple[Piece, ...]:
    """List items keep a sign that they are some. Runs that a word runs through are joined."""
    joined: list[Piece] = []
    for piece in pieces:
        if joined and joined[-1].struck == piece.struck:
            joined[-1] = Piece(joined[-1].text + piece.text, piece.struck)
        else:
            joined.append(piece)
    item = paragraph.find(f"{_W}pPr/{_W}numPr") is not None
    return (Piece("•"), *joined) if item else tuple(joined)


def _text(part: Any) -> str:
    if part.tag in (f"{_W}t", f"{_W}delText"):
        return part.text or ""
    return " " if part.tag in (f"{_W}tab", f"{_W}br", f"{_W}cr") else "-" if part.tag == f"{_W}noBreakHyphen" else ""


def _on(settings: etree._Element | None, name: str) -> bool:
    found = settings.find(f"{_W}{name}") if settings is not None else None
    return found is not None and str(found.get(f"{_W}val", "1")).lower() not in _OFF


def _invisible(settings: etree._Element | None) -> str | None:
    """Why a run is not seen, or None when it is."""
    if settings is None:
        return None
    if _on(settings, "vanish"):
        return "it is formatted as hidden"
    colour = settings.find(f"{_W}color")
    shade = settings.find(f"{_W}shd")
    if (
        colour is not None
        and str(colour.get(f"{_W}val", "")).upper() == "FFFFFF"
        and (shade is None or str(shade.get(f"{_W}fill", "")).upper() in ("FFFFFF", "AUTO", ""))
    ):
        return "it is white on white"
    size = settings.find(f"{_W}sz")
    if size is not None and str(size.get(f"{_W}val", "24")).isdecimal() and int(str(size.get(f"{_W}val", "24"))) <= 3:
        return "its letters are too small to be read"
    return None
