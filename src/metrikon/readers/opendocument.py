"""ODT (OpenDocument, ISO/IEC 26300): headings, paragraphs, lists and tables in the order of the text, what is crossed out or hidden."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from lxml import etree

from metrikon.core.documents.model import Document, Hidden, Link
from metrikon.core.documents.setting import Block, Grid, Paragraph, Piece
from metrikon.core.documents.types import header_row
from metrikon.core.values.text import clean
from metrikon.ports.reader import Limits, Refused
from metrikon.readers.building import Carried, built
from metrikon.readers.packed import check_archive, member_xml

_SPACES = {
    name: f"{{urn:oasis:names:tc:opendocument:xmlns:{space}:1.0}}"
    for name, space in (
        ("text", "text"),
        ("table", "table"),
        ("style", "style"),
        ("fo", "xsl-fo-compatible"),
        ("office", "office"),
        ("draw", "drawing"),
    )
}
_TEXT, _TABLE, _STYLE, _FO, _OFFICE, _DRAW = (_SPACES[name] for name in ("text", "table", "style", "fo", "office", "draw"))
_HREF = "{http://www.w3.org/1999/xlink}href"
DEEPEST = 20
MOST_CELLS = 60  # columns that one repeated cell may fill
MOST_BLANKS = 200  # that one mark may stand for
_HOLDERS = ("section", "list", "list-item", "list-header", "index-body", "table-of-content", "note-body")


@dataclass(frozen=True)
class _Look:
    """What of a style matters: crossed out; why it is not seen."""

    struck: bool = False
    unseen: str = ""


class OpenDocumentReader:
    """Reads ODT. Macros and embedded objects are left where they are."""

    formats: tuple[str, ...] = ("odt",)

    def read(self, data: bytes, sha256: str, limits: Limits) -> Document:
        """Headers of the pages, the text, their footers; deletions that were tracked and hidden text are told of as hidden."""
        archive = check_archive(data, limits)
        content = member_xml(archive, "content.xml", limits)
        styles = member_xml(archive, "styles.xml", limits) if "styles.xml" in archive.namelist() else None
        looks = {**(_looks(styles) if styles is not None else {}), **_looks(content)}
        walk = _Walk(looks)
        blocks = list(walk.masters(styles, "header"))
        body = content.find(f"{_OFFICE}body/{_OFFICE}text")
        if body is None:
            raise Refused("broken", "The document holds no text part; ask the sender for a new one.")
        blocks += walk.blocks(body, 0)
        blocks += walk.masters(styles, "footer")
        carried = Carried(links=tuple(walk.links), hidden=tuple(walk.hidden))
        if not blocks:
            carried.warnings.append("The document holds no text.")
        return built(sha256, "odt", blocks, limits, carried)


def _looks(root: etree._Element) -> dict[str, _Look]:
    """The styles of a part by their names."""
    found = {}
    for style in root.iter(f"{_STYLE}style"):
        said = style.find(f"{_STYLE}text-properties")
        if said is None:
            continue
        struck = said.get(f"{_STYLE}text-line-through-style", "none") != "none"
        found[str(style.get(f"{_STYLE}name"))] = _Look(struck, _unseen(said))
    return found


def _unseen(said: etree._Element) -> str:
    """Why text of a style is not seen; nothing where it is."""
    if said.get(f"{_TEXT}display") == "none":
        return "it is formatted as hidden"
    ground = str(said.get(f"{_FO}background-color", "#ffffff")).lower()
    if str(said.get(f"{_FO}color", "")).lower() == "#ffffff" and ground in ("#ffffff", "transparent"):
        return "it is white on white"
    size = str(said.get(f"{_FO}font-size", "")).removesuffix("pt")
    if size.replace(".", "", 1).isdecimal() and float(size) <= 1.5:
        return "its letters are too small to be read"
    return ""


class _Walk:
    """Goes through the parts of a document and gathers what is seen, what points elsewhere and what is hidden."""

    def __init__(self, looks: Mapping[str, _Look]) -> None:
        self.looks = looks
        self.links: list[Link] = []
        self.hidden: list[Hidden] = []

    def masters(self, styles: etree._Element | None, name: str) -> Iterator[Block]:
        """The headers or footers of the pages."""
        for element in styles.iter(f"{_STYLE}{name}") if styles is not None else ():
            yield from self.blocks(element, 0)

    def blocks(self, parent: etree._Element, depth: int, item: bool = False) -> Iterator[Block]:
        """The blocks of an element in their order; `item`: within a list."""
        if depth > DEEPEST:
            return
        for element in parent:
            if element.tag in (f"{_TEXT}p", f"{_TEXT}h"):
                yield from self._paragraph(element, depth, item)
            elif element.tag == f"{_TABLE}table":
                yield self._grid(element, depth)
            elif element.tag == f"{_TEXT}tracked-changes":
                self._deleted(element)
            elif isinstance(element.tag, str) and etree.QName(element).localname in _HOLDERS:
                yield from self.blocks(element, depth + 1, item or element.tag == f"{_TEXT}list")

    def _paragraph(self, element: etree._Element, depth: int, item: bool) -> Iterator[Block]:
        pieces = _joined(self._pieces(element, self._look(element, _Look()), ""))
        if any(clean(piece.text) for piece in pieces):
            yield Paragraph((Piece("•"), *pieces) if item else pieces, 1 if element.tag == f"{_TEXT}h" else 0)
        for box in element.iter(f"{_DRAW}text-box"):
            if next(box.iterancestors(f"{_TEXT}p", f"{_TEXT}h")) is element:  # one within another is reached through that one
                yield from self.blocks(box, depth + 1)

    def _look(self, element: etree._Element, above: _Look) -> _Look:
        own = self.looks.get(str(element.get(f"{_TEXT}style-name")))
        return _Look(above.struck or own.struck, above.unseen or own.unseen) if own else above

    def _pieces(self, element: etree._Element, look: _Look, address: str) -> Iterator[Piece]:
        """The text of an element and of what is within it, with its look."""
        yield from self._piece(element.text or "", look, address)
        for child in element:
            if isinstance(child.tag, str):
                yield from self._child(child, look, address)
            yield from self._piece(child.tail or "", look, address)

    def _child(self, child: etree._Element, look: _Look, address: str) -> Iterator[Piece]:
        name = etree.QName(child).localname
        if name == "s":
            count = str(child.get(f"{_TEXT}c", "1"))
            yield Piece(" " * min(MOST_BLANKS, int(count) if count.isdecimal() else 1), look.struck)
        elif name in ("tab", "line-break"):
            yield Piece(" ", look.struck)
        elif name in ("frame", "text-box", "annotation", "note"):
            return
        elif name == "hidden-text":
            self._hide(child.text or "", "it is formatted as hidden")
        else:
            yield from self._pieces(child, self._look(child, look), str(child.get(_HREF) or "") if name == "a" else address)

    def _piece(self, text: str, look: _Look, address: str) -> Iterator[Piece]:
        if not text:
            return
        if look.unseen:
            self._hide(text, look.unseen)
            return
        if address and clean(text):
            self.links.append(Link(clean(text), address))
        yield Piece(" ".join(text.split()) if text.strip() == text else f" {text.strip()} " if text.strip() else " ", look.struck)

    def _deleted(self, changes: etree._Element) -> None:
        for each in changes.iter(f"{_TEXT}deletion"):
            self._hide(" ".join(str(text) for p in each.iter(f"{_TEXT}p") for text in p.itertext()), "it was deleted with changes tracked")

    def _hide(self, text: str, why: str) -> None:
        if clean(text):
            self.hidden.append(Hidden(clean(text), why))

    def _grid(self, table: etree._Element, depth: int) -> Grid:
        rows = []
        for row in table.iter(f"{_TABLE}table-row"):
            if next(row.iterancestors(f"{_TABLE}table")) is table:
                rows.append(tuple(self._cells(row, depth)))
        wide = max((len(row) for row in rows), default=0)
        rows = [row + ("",) * (wide - len(row)) for row in rows]
        return Grid(rows[0], tuple(rows[1:])) if header_row(rows) else Grid((), tuple(rows))

    def _cells(self, row: etree._Element, depth: int) -> Iterator[str]:
        for cell in row:
            if cell.tag not in (f"{_TABLE}table-cell", f"{_TABLE}covered-table-cell"):
                continue
            paragraphs = [clean("".join(piece.text for piece in self._pieces(each, _Look(), ""))) for each in cell.iter(f"{_TEXT}p", f"{_TEXT}h")]
            again = str(cell.get(f"{_TABLE}number-columns-repeated", "1"))
            text = "\n".join(each for each in paragraphs if each)
            for _ in range(min(MOST_CELLS, int(again) if again.isdecimal() else 1)):
                yield text


def _joined(pieces: Iterator[Piece]) -> tuple[Piece, ...]:
    """Pieces that look alike as one."""
    found: list[Piece] = []
    for piece in pieces:
        if found and found[-1].struck == piece.struck:
            found[-1] = Piece(found[-1].text + piece.text, piece.struck)
        else:
            found.append(piece)
    return tuple(found)
