"""PDF: words with boxes from its characters; pages without text are read from their picture."""

from __future__ import annotations

import ctypes
import io
import re
from collections.abc import Iterator, Sequence
from typing import Any

import pypdfium2 as pdfium
import pypdfium2.raw as raw

from metrikon.core.documents.carried import carried_sums
from metrikon.core.documents.lines import in_lines
from metrikon.core.documents.model import Document, Fact, Hidden, Link, Page, Part, Word, union
from metrikon.core.documents.order import in_order
from metrikon.core.documents.tables import find_tables
from metrikon.core.values.text import clean
from metrikon.ports.reader import Limits, Refused
from metrikon.readers.pdf_extras import attached, carried_invoice, field_words, page_extras
from metrikon.readers.pdf_hidden import Seen, has_picture

_WORD = re.compile(r"[^\s\ufffe\uffff\x00-\x1f]+[\x02\ufffe]?")  # a hyphen at the end of a line comes as U+0002
_HYPHEN = re.compile("[\x02\ufffe]$")
_USUAL = set(".,:;-–/()[]%&+'\"€£$#@*=_!?’“”°·•…|")
FEW_WORDS = 3  # a page with fewer words of text is read from its picture
OFF = (0.0, 0.0, 0.0, 0.0)
OCR_DOTS = 150  # dots an inch at which a page without text is drawn for reading


class PdfReader:
    """Reads PDF files, with text or scanned."""

    formats: tuple[str, ...] = ("pdf",)

    def read(self, data: bytes, sha256: str, limits: Limits) -> Document:
        """The document; raises `Refused` for broken, encrypted and oversized files."""
        pdf = _opened(data)
        try:
            count = len(pdf)
            if count == 0:
                raise Refused("broken", "The PDF has no pages. It is broken; ask the sender for a new one.")
            if count > limits.max_pages:
                raise Refused("too-many-pages", f"The PDF has {count} pages; the limit is {limits.max_pages} (setting max_pages).")
            walk = _Walk(pdf, limits)
            pages = [walk.page(number) for number in range(count)]
            parts = list(attached(pdf, limits))
            walk.facts += [*carried_invoice(parts, walk.warnings), *carried_sums(pages)]
        finally:
            pdf.close()
        if walk.hidden:
            walk.warnings.append(f"{len(walk.hidden)} words cannot be seen by a person who looks at the page; they are left out of the text.")
        return Document(
            sha256,
            "pdf",
            tuple(pages),
            find_tables(pages),
            tuple(walk.warnings),
            tuple(walk.facts),
            tuple(walk.links),
            tuple(joined(walk.hidden)),
            parts=tuple(part for part, _ in parts),
        )

    def parts(self, data: bytes, limits: Limits, warnings: list[str] | None = None) -> Iterator[tuple[Part, bytes]]:
        """Files attached to the PDF."""
        pdf = _opened(data)
        try:
            yield from attached(pdf, limits)
        finally:
            pdf.close()

    def picture(self, data: bytes, page: int, turned: float, dots: int) -> bytes:
        """One page as PNG."""
        pdf = _opened(data)
        try:
            image = _drawn(pdf[page - 1], dots)
        finally:
            pdf.close()
        from metrikon.readers.turning import turn

        image = turn(image, turned)
        out = io.BytesIO()
        image.quantize(64).save(out, "PNG")
        return out.getvalue()


def _opened(data: bytes) -> Any:
    try:
        return pdfium.PdfDocument(data)
    except pdfium.PdfiumError as error:
        if "password" in str(error).lower():
            raise Refused(
                "encrypted", "The PDF is encrypted. Set the password that opens it on the flow, or ask for the file without one."
            ) from error
        reason = "The file says that it is a PDF but cannot be opened as one. It is broken or cut off; ask the sender for a new one."
        raise Refused("broken", reason) from error


class _Walk:
    """Goes through the pages of a PDF and gathers what they hold besides words."""

    def __init__(self, pdf: Any, limits: Limits) -> None:
        self.pdf = pdf
        self.limits = limits
        if pdf.get_formtype() != raw.FORMTYPE_NONE:
            pdf.init_forms()
        self.form = pdf.formenv.raw if pdf.formenv else None
        self.facts: list[Fact] = []
        self.links: list[Link] = []
        self.hidden: list[Hidden] = []
        self.warnings: list[str] = []

    def page(self, number: int) -> Page:
        """Page `number` (from 0), by its characters or from its picture, whichever is better."""
        try:
            page = self.pdf[number]
        except pdfium.PdfiumError as error:
            raise Refused("broken", f"Page {number + 1} of the PDF cannot be opened. The file is broken or cut off.") from error
        width, height = page.get_size()
        found = list(_words(page, height))
        words = [word for word, why in found if why is None]
        layer = [word for word, why in found if why == "it is written in invisible ink"]
        pictured = has_picture(page)
        if pictured and len(words) < FEW_WORDS and len(layer) >= FEW_WORDS and plausible(layer):
            words = [*words, *layer]  # a scan that came with its text
            found = [(word, None if why == "it is written in invisible ink" else why) for word, why in found]
        self.hidden += [Hidden(word.text, why, number + 1, word.box) for word, why in found if why is not None]
        words += self._annotated(page, number)
        if (len(words) >= FEW_WORDS and (not pictured or plausible(words))) or not pictured:
            ordered, lines = in_lines(words)
            page.close()
            return in_order(Page(number + 1, width, height, "text", ordered, lines))
        made, warnings = _scanned(page, number, self.limits, len(self.pdf) == 1)
        self.warnings += warnings
        return made

    def _annotated(self, page: Any, number: int) -> list[Word]:
        """The words of filled form fields, which stand on the page though they are no print of it."""
        fields, links = page_extras(self.pdf, page, number + 1, self.form)
        self.links += links
        box, rotation, words = page.get_cropbox(fallback_ok=True), page.get_rotation(), []
        for fact, rectangle in fields:
            place = _upright(rectangle, box, rotation)
            self.facts.append(fact)
            if place is not None and fact.value not in ("yes", "no"):
                words += field_words(fact.value, place)
        return words


def plausible(words: Sequence[Word]) -> bool:
    """Whether words look like language and figures, and not like a text layer that went wrong."""
    text = "".join(word.text for word in words)
    odd = sum(not (c.isalnum() or c in _USUAL) for c in text)
    broken = sum("\ue000" <= c <= "\uf8ff" or c == "\ufffd" for c in text)
    single = sum(len(word.text) == 1 for word in words)
    return broken * 50 <= len(text) and odd * 4 <= len(text) and (single * 2 <= len(words) or len(words) < 10)


def joined(hidden: Sequence[Hidden]) -> Iterator[Hidden]:
    """Hidden words that follow each other on a page, hidden in the same way, as one text."""
    held: list[Hidden] = []
    for each in [*hidden, None]:
        if held and (each is None or (each.page, each.why) != (held[0].page, held[0].why)):
            boxes = [one.box for one in held if one.box]
            yield Hidden(" ".join(one.text for one in held)[:4000], held[0].why, held[0].page, union(boxes) if boxes else None)
            held = []
        if each is not None:
            held.append(each)


def _scanned(page: Any, number: int, limits: Limits, alone: bool) -> tuple[Page, list[str]]:
    from metrikon.readers.picture import read_judged

    width, height = page.get_size()
    dots = OCR_DOTS
    while width * height * (dots / 72) ** 2 > limits.max_pixels and dots > 30:
        dots //= 2
    image = _drawn(page, dots)
    page.close()
    found = read_judged(image, number + 1, alone)
    ratio = width / image.width
    scaled = [Word(w.text, w.x0 * ratio, w.y0 * ratio, w.x1 * ratio, w.y1 * ratio, w.sure) for w in found.words]
    ordered, lines = in_lines(scaled)
    made = Page(number + 1, found.size[0] * ratio, found.size[1] * ratio, "ocr", ordered, lines, found.turned)
    return in_order(made), found.notes


def _drawn(page: Any, dots: int) -> Any:
    return page.render(scale=dots / 72).to_pil().convert("RGB")


def _words(page: Any, height: float) -> Iterator[tuple[Word, str | None]]:
    """Words with boxes, and how those that are not seen are hidden.

    A word reaches from its first to its last character, as wide as they advance.
    """
    text_page = page.get_textpage()
    handle = text_page.raw
    count = raw.FPDFText_CountChars(handle)
    if count <= 0:
        text_page.close()
        return
    buffer = (ctypes.c_ushort * (count + 1))()
    raw.FPDFText_GetText(handle, 0, count, buffer)
    text = bytes(buffer)[: 2 * count].decode("utf-16-le", "replace")
    if len(text) != count:  # characters outside the basic plane shift the numbering: count units
        text = bytes(buffer)[: 2 * count].decode("utf-16-le", "surrogatepass")
        text = "".join(chr(unit) for unit in buffer[:count])
    rotation = page.get_rotation()
    box = page.get_cropbox(fallback_ok=True)
    first, last = raw.FS_RECTF(), raw.FS_RECTF()
    to_first, to_last = ctypes.byref(first), ctypes.byref(last)
    box_of = raw.FPDFText_GetLooseCharBox
    seen = Seen(page, handle)
    shared = dict[float, float]().setdefault  # words of a line share their edges: a number is kept once a page
    for match in _WORD.finditer(text):
        start, end = match.span()
        if not box_of(handle, start, to_first):
            continue
        box_of(handle, end - 1, to_last)
        left, top, right, bottom = first.left, first.top, first.right, first.bottom
        left_too, top_too, right_too, bottom_too = last.left, last.top, last.right, last.bottom
        around = (
            left if left < left_too else left_too,
            top if top > top_too else top_too,
            right if right > right_too else right_too,
            bottom if bottom < bottom_too else bottom_too,
        )
        word = _worded(match.group())
        if not word:
            continue
        place = _upright(around, box, rotation)
        why = seen.why(start, (around[0], around[3], around[2], around[1])) if place is not None else "it stands off the page"
        x0, y0, x1, y1 = place or OFF
        top, foot = round(y0, 2), round(y1, 2)
        yield Word(word, round(x0, 2), shared(top, top), round(x1, 2), shared(foot, foot)), why
    text_page.close()


def _worded(units: str) -> str:
    """A word of UTF-16 units as it should be kept."""
    if units.isascii() and units.isprintable():
        return units
    return clean(_HYPHEN.sub("-", units).encode("utf-16", "surrogatepass").decode("utf-16", "replace"))


def _upright(
    rect: tuple[float, float, float, float], box: tuple[float, float, float, float], rotation: int
) -> tuple[float, float, float, float] | None:
    """From PDF space (origin below left) to page space (origin top left), page turned as shown."""
    left, top, right, bottom = rect
    x0, y0, x1, y1 = left - box[0], box[3] - top, right - box[0], box[3] - bottom
    width, height = box[2] - box[0], box[3] - box[1]
    if x1 < 0 or y1 < 0 or x0 > width or y0 > height:
        return None  # off the page: no one sees it
    if rotation == 90:
        return (height - y1, x0, height - y0, x1)
    if rotation == 180:
        return (width - x1, height - y1, width - x0, height - y0)
    if rotation == 270:
        return (y0, width - x1, y1, width - x0)
    return (x0, y0, x1, y1)
