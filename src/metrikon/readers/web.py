"""Web pages: the main text without what stands around it, tables, links, and the facts that pages carry for programs.

Nothing is fetched and nothing is run. What a reader of the page would not see is told of as hidden.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from urllib.parse import unquote

from lxml import etree, html

from metrikon.core.documents.model import Document, Hidden, Link
from metrikon.core.documents.setting import Block, Grid, Paragraph, Piece, block_texts, paragraph
from metrikon.core.documents.types import header_row
from metrikon.core.values.text import clean
from metrikon.ports.reader import Limits, Refused
from metrikon.readers.building import Carried, built
from metrikon.readers.charset import decoded
from metrikon.readers.webfacts import page_facts
from metrikon.readers.webparts import BLOCK, DEEPEST, GONE, card, is_around, is_listing, main_part, text_of, unseen

_HEADS = {"h1", "h2", "h3", "h4", "h5", "h6"}
_STRUCK = {"s", "del", "strike"}
_AT = re.compile(
    r"\b([\w.+-]{1,60})\s*(?:\[at\]|\(at\)|\{at\}|\s+at\s+|\[@\]|\(@\)|&#64;|&commat;)\s*([\w-]{1,60}(?:\s*(?:\[dot\]|\(dot\)|\{dot\}|\s+dot\s+|\.)\s*[\w-]{2,60}){1,4})",
    re.I,
)
_DOT = re.compile(r"\s*(?:\[dot\]|\(dot\)|\{dot\}|\s+dot\s+)\s*", re.I)
_LISTING = {"ul", "ol", "div", "section"}
_CONTACT = re.compile(r"\d|@|:\s*\S")
_SENTENCE = re.compile(r"(?:\S+\s+){4,}\S+[.!]$")  # what is said at the foot of a page, such as who runs it
_HOME = ("/", "./", "../", "index.html", "/index.html", "#top")
_START = {"home", "homepage", "start", "startseite", "accueil", "inicio", "início", "startpagina", "hem", "forside"}
_PARTED = re.compile(r"(?:\s*[·|•]){2,}\s*")
LONGEST_CONTACT, MOST_CONTACT = 400, 30  # characters of a line, lines
MOST_LINKS = 3000


class WebReader:
    """Reads HTML and saved pages."""

    formats: tuple[str, ...] = ("html",)

    def read(self, data: bytes, sha256: str, limits: Limits) -> Document:
        """Main text and tables as blocks, with facts and links."""
        root = parsed(data)
        carried = Carried()
        facts = page_facts(root, carried.warnings)
        found = main_text(root)
        if not found.blocks:
            carried.warnings.append("The page holds no text; it may be made by scripts, which are not run here.")
        return built(
            sha256,
            "html",
            found.blocks,
            limits,
            Carried(tuple(facts), tuple(found.links[:MOST_LINKS]), tuple(found.hidden[:500]), (), carried.warnings),
        )


@dataclass
class Found:
    """What stands on a page."""

    blocks: list[Block] = field(default_factory=list)
    links: list[Link] = field(default_factory=list)
    hidden: list[Hidden] = field(default_factory=list)


def parsed(data: bytes) -> etree._Element:
    """The tree of a page, whatever is wrong with it. Raises `Refused` when there is none."""
    named = re.search(rb"<meta[^>]{0,200}charset\s*=\s*[\"']?([\w-]{2,30})", data[:4000], re.I)
    text = None
    if named and not data.startswith((b"\xef\xbb\xbf", b"\xff\xfe", b"\xfe\xff")):
        try:
            text = data.decode(named.group(1).decode("ascii"))
        except (LookupError, UnicodeDecodeError):
            text = None
    if text is None:
        found = decoded(data)
        text = found.text if found else ""
    text = re.sub(r"^\s*<\?xml[^>]*\?>", "", text)
    parser = html.HTMLParser(no_network=True, huge_tree=False, remove_comments=True, remove_pis=True)
    try:
        root = html.document_fromstring(text, parser=parser)
    except (etree.ParserError, etree.XMLSyntaxError, ValueError) as error:
        raise Refused("broken", "The page holds nothing that can be read.") from error
    return root


def main_text(root: etree._Element) -> Found:
    """The blocks of the main part of a page, with its links and what is hidden."""
    walk = _Walk()
    body = root.find("body")
    part = main_part(body if body is not None else root)
    if part is not body:
        walk.above(body if body is not None else root, part)
    walk.into(part, 0, False)
    walk.close()
    contact = contact_lines(body if body is not None else root)
    if contact:
        walk.found.blocks += [paragraph(contact[0], 2), *map(paragraph, contact[1:])]
    return walk.found


def contact_lines(body: etree._Element) -> list[str]:
    """What head and foot of a page say of who is behind it: its name, lines with addresses, numbers or dates."""
    found: list[str] = []
    done: set[etree._Element] = set()
    for element in body.iter("header", "footer", "address", "aside", "div", "section"):
        role = element.get("role")
        if element.tag in ("div", "section") and role not in ("banner", "contentinfo"):
            continue
        if not is_around(element) or unseen(element) or any(each in done or each.tag == "nav" for each in element.iterancestors()):
            continue
        done.add(element)
        walk = _Walk(around=True)
        for child in element:
            walk.say_before(element, child)
            walk.into(child, 1, False)
            walk.say_after(child)
        walk.say_before(element, None)
        walk.close()
        lines = [_PARTED.sub(" · ", clean(" ".join(block_texts(block)))) for block in walk.found.blocks]
        if element.tag == "header" or role == "banner":
            named = (text_of(link) for link in element.iter("a") if link.get("href", "").strip() in _HOME)
            found += [text for text in named if 2 < len(text) <= 80 and text.casefold() not in _START][:1]
        foot = element.tag == "footer" or role == "contentinfo"
        found += [line for line in lines if 2 < len(line) <= LONGEST_CONTACT and (_CONTACT.search(line) or (foot and _SENTENCE.search(line)))]
    return list(dict.fromkeys(found))[:MOST_CONTACT]


class _Walk:
    def __init__(self, around: bool = False) -> None:
        self.around = around  # what stands around the main part, where links lead elsewhere
        self.found = Found()
        self.pieces: list[Piece] = []
        self.space = 0
        self.item = False
        self.card = False  # within one of several parts alike, the lines of which stay together
        self.alike: tuple[int, int] | None = None  # which of how many, until its first line

    def above(self, body: etree._Element, part: etree._Element) -> None:
        """A heading above the main part belongs to it."""
        if part.find(".//h1") is None:
            for head in body.iter("h1"):
                text = text_of(head)
                if text and not any(is_around(e) for e in head.iterancestors()):
                    self.found.blocks.append(paragraph(text))
                return

    def close(self) -> None:
        """The paragraph that was being gathered is complete."""
        if any(clean(piece.text) for piece in self.pieces):
            pieces = [Piece(_plain_address(piece.text), piece.struck) for piece in _joined(self.pieces)]
            self.found.blocks.append(Paragraph((Piece("•"), *pieces) if self.item else tuple(pieces), self.space, alike=self.alike))
            self.space, self.alike = 0, None
        self.pieces, self.item = [], False

    def into(self, element: etree._Element, depth: int, struck: bool) -> None:
        if not isinstance(element.tag, str) or depth > DEEPEST:
            return
        tag = element.tag
        if tag in GONE or (depth and is_around(element)):
            return
        why = unseen(element)
        if why is not None:
            text = text_of(element)
            if text:
                self.found.hidden.append(Hidden(text[:4000], why))
            return
        if tag == "table" and _is_data(element):
            self.close()
            self._table(element)
            return
        if tag == "br":
            self.close()
        if depth and tag in _LISTING and is_listing(element):
            return
        block, alike = tag in BLOCK, None
        if block:
            self.close()
            alike = None if self.card else card(element)
            self.space = max(self.space, int(alike is not None or (not self.card and (tag in _HEADS or tag in ("p", "section", "article")))))
            self.alike = alike or self.alike
            self.card = self.card or alike is not None
            self.item = tag == "li"
        struck = struck or tag in _STRUCK or "line-through" in element.get("style", "")
        turned = "bidi-override" in element.get("style", "") and "rtl" in element.get("style", "") + element.get("dir", "")
        if tag == "a":
            self._link(element)
            if self.around and _leads_elsewhere(element):
                return
        if tag == "img" and clean(element.get("alt", "")) and len(element.get("alt", "")) < 200:
            pass  # what a picture shows is not text of the page
        self._say(element.text, struck, turned)
        for child in element:
            self.into(child, depth + 1, struck)
            self._say(child.tail, struck, turned)
        if tag == "a":
            self._say(_told_address(element), struck)
        if block:
            self.close()
            self.card = self.card and alike is None
            self.alike = self.alike if self.card else None

    def say_before(self, element: etree._Element, first: etree._Element | None) -> None:
        """The text that an element begins with, when `first` is its first child or it has none."""
        if (first is None and len(element) == 0) or (first is not None and first.getprevious() is None):
            self._say(element.text, False)

    def say_after(self, element: etree._Element) -> None:
        """The text that follows an element."""
        self._say(element.tail, False)

    def _say(self, text: str | None, struck: bool, turned: bool = False) -> None:
        if text:
            self.pieces.append(Piece(text[::-1] if turned else text, struck))

    def _link(self, element: etree._Element) -> None:
        address = clean(element.get("href", ""))[:2000]
        if address and not address.startswith(("#", "javascript:", "data:")):
            self.found.links.append(Link(text_of(element)[:300], address))

    def _table(self, element: etree._Element) -> None:
        rows: list[tuple[str, ...]] = []
        headed = False
        for row in element.iter("tr"):
            if next(row.iterancestors("table")) is not element:
                continue
            cells: list[str] = []
            for cell in row:
                if cell.tag not in ("td", "th"):
                    continue
                inner = _Walk()
                inner.into_cell(cell)
                self.found.links += inner.found.links
                self.found.hidden += inner.found.hidden
                cells.append(inner.cell_text())
                span = cell.get("colspan", "1")
                cells += [""] * (min(int(span), 60) - 1 if span.isdecimal() else 0)
            if not rows and cells and all(cell.tag == "th" for cell in row if cell.tag in ("td", "th")):
                headed = True
            if any(cells):
                rows.append(tuple(cells))
        wide = max((len(row) for row in rows), default=0)
        rows = [row + ("",) * (wide - len(row)) for row in rows]
        if rows and (headed or header_row(rows)):
            self.found.blocks.append(Grid(rows[0], tuple(rows[1:])))
        elif rows:
            self.found.blocks.append(Grid((), tuple(rows)))

    def into_cell(self, cell: etree._Element) -> None:
        """Gather the text of a table cell."""
        self._say(cell.text, False)
        for child in cell:
            self.into(child, 1, False)
            self._say(child.tail, False)
        self.close()

    def cell_text(self) -> str:
        """The text gathered, crossed-out words left out when others stand beside them."""
        texts = []
        for block in self.found.blocks:
            if isinstance(block, Paragraph):
                kept = [piece.text for piece in block.pieces if not piece.struck] or [piece.text for piece in block.pieces]
                texts.append(clean(" ".join(kept)))
        return "\n".join(text for text in texts if text)


def _joined(pieces: list[Piece]) -> Iterator[Piece]:
    """Pieces of the same kind run together: tags within a word do not part it."""
    held: Piece | None = None
    for piece in pieces:
        if held is not None and held.struck == piece.struck:
            held = Piece(held.text + piece.text, held.struck)
        else:
            if held is not None:
                yield held
            held = piece
    if held is not None:
        yield held


def _leads_elsewhere(link: etree._Element) -> bool:
    """Whether a link in the head or foot of a page does no more than lead to another one, such as "Imprint"."""
    address = clean(link.get("href", ""))
    own = not address or address in _HOME or address.lower().startswith(("mailto:", "tel:"))
    return not own and not re.search(r"[\d@]", text_of(link))


def _is_data(table: etree._Element) -> bool:
    """Whether a table holds data and not the page's layout: some rows of several short cells, no table within."""
    if table.get("role") == "presentation" or table.find(".//table") is not None:
        return False
    rows = [[c for c in row if c.tag in ("td", "th")] for row in table.iter("tr")]
    several = [row for row in rows if len(row) >= 2]
    return len(several) >= 2 or (bool(several) and table.find(".//th") is not None)


def _told_address(link: etree._Element) -> str | None:
    """The mail address or telephone number behind a link whose words do not say it."""
    address = clean(link.get("href", ""))
    if not address.lower().startswith(("mailto:", "tel:")):
        return None
    told = unquote(address.split(":", 1)[1].split("?")[0])
    shown = re.sub(r"[\s()/-]", "", _plain_address(text_of(link))).lower()
    return f" <{told}>" if told and re.sub(r"[\s()/-]", "", told).lower() not in shown else None


def _plain_address(text: str) -> str:
    """Mail addresses written to fool robots, as they are meant: ada (at) garden (dot) example → ada@garden.example."""
    return _AT.sub(lambda m: f"{m.group(1)}@{_DOT.sub('.', m.group(2))}" if "." in _DOT.sub(".", m.group(2)) else m.group(0), text)
