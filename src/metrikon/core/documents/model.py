"""A document: pages with words, lines and boxes; tables that may run over pages; facts it carries.

Boxes are (left, top, right, bottom) in the page's own units, origin at the top left. For a PDF the
unit is the point (1/72 inch), for a picture the pixel. Word numbers count within their page. What
has no pages of its own (a sheet, a web page, a transcript) is set on pages first: see `setting`.
"""

from __future__ import annotations

from collections.abc import Iterable
from functools import cached_property

import msgspec

Box = tuple[float, float, float, float]
FORM = 6  # version of the stored form of a document


class Word(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """One word as it stands on a page; `sure` is the reader's certainty from 0 to 1.

    `struck`: it is crossed out, and no longer holds.
    """

    text: str
    x0: float
    y0: float
    x1: float
    y1: float
    sure: float = 1.0
    struck: bool = False

    @property
    def box(self) -> Box:
        return (self.x0, self.y0, self.x1, self.y1)


class Segment(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """Words [first, last) of one line that stand together, apart from others by a wide gap."""

    first: int
    last: int
    text: str
    x0: float
    y0: float
    x1: float
    y1: float


class Line(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """One line of print across the page: its segments from left to right."""

    segments: tuple[Segment, ...]

    @property
    def text(self) -> str:
        return " ".join(segment.text for segment in self.segments)

    @property
    def first(self) -> int:
        return self.segments[0].first

    @property
    def last(self) -> int:
        return self.segments[-1].last

    @property
    def box(self) -> Box:
        return union((s.x0, s.y0, s.x1, s.y1) for s in self.segments)


class Cell(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """One cell of a table: its text and where it stands; an empty cell has no words."""

    text: str = ""
    page: int = 0
    words: tuple[int, ...] = ()


class Table(msgspec.Struct, frozen=True):
    """A table, joined over pages; every row has one cell a column.

    `types`: what each column holds where the file says so or it is plain: "number", "date", "yes/no" or "text".
    """

    header: tuple[Cell, ...]
    rows: tuple[tuple[Cell, ...], ...]
    pages: tuple[int, ...]
    types: tuple[str, ...] = ()


class Page(msgspec.Struct, frozen=True, dict=True):
    """One page: words in reading order, and lines over them. `number` counts from 1.

    `source`: "text" (characters of the file), "ocr" (read from its picture) or "set" (set by us).
    `turned`: degrees the picture was turned clockwise to stand upright before it was read.
    `part`: the name of the file within the file that the page is of, where it is of one.
    """

    number: int
    width: float
    height: float
    source: str
    words: tuple[Word, ...]
    lines: tuple[Line, ...]
    turned: float = 0.0
    part: str = ""

    @cached_property
    def line_of(self) -> tuple[int, ...]:
        """The number of the line for each word."""
        found = [0] * len(self.words)
        for number, line in enumerate(self.lines):
            found[line.first : line.last] = [number] * (line.last - line.first)
        return tuple(found)


class Fact(msgspec.Struct, frozen=True, omit_defaults=True):
    """Something the file says of itself in a form made for programs, exactly as it stands there.

    `source`: what said it ("ubl", "cii", "json-ld", "microdata", "rdfa", "form field", "header",
    "meta", "vcard", "icalendar", "json", "xml" or "carried forward"). `path`: where in that source.
    `term`: the business term of EN 16931 (BT-…), where it is one. `words` stand on `page`, if any do.
    `row` counts from 1 in what there is several of, such as the lines of an invoice; 0 elsewhere.
    """

    source: str
    path: str
    name: str
    value: str
    term: str = ""
    page: int = 0
    words: tuple[int, ...] = ()
    row: int = 0


class Link(msgspec.Struct, frozen=True, omit_defaults=True):
    """An address that words of the document point to; it is never followed."""

    text: str
    address: str
    page: int = 0


class Hidden(msgspec.Struct, frozen=True, omit_defaults=True):
    """Text that a person who looks at the document does not see; `why` says how it is hidden."""

    text: str
    why: str
    page: int = 0
    box: Box | None = None


class Sentence(msgspec.Struct, frozen=True, omit_defaults=True):
    """Something said: by whom, from when to when (milliseconds from the start), and where it stands."""

    text: str
    speaker: str = ""
    start: int | None = None
    end: int | None = None
    page: int = 0
    words: tuple[int, ...] = ()


class Part(msgspec.Struct, frozen=True, omit_defaults=True):
    """A file within the file. `role`: "attachment", "inline" (shown within a text, such as a logo) or "member"."""

    name: str
    sha256: str
    size: int
    role: str = "attachment"
    media: str = ""


class Within(msgspec.Struct, frozen=True, omit_defaults=True):
    """One of several documents that a file holds: its pages, of one page only what stands within `box`, and what it calls itself."""

    pages: tuple[int, ...]
    box: Box | None = None
    title: str = ""


class Start(msgspec.Struct, frozen=True, array_like=True):
    """Where one of several parts that are alike begins, such as one person of a team: the page, the line on it (from 0), which of how many."""

    page: int
    line: int
    number: int
    of: int


class Document(msgspec.Struct, frozen=True, dict=True):
    """A file made readable. `sha256` names the bytes it was read from; `why` says how its format was found."""

    sha256: str
    format: str
    pages: tuple[Page, ...]
    tables: tuple[Table, ...] = ()
    warnings: tuple[str, ...] = ()
    facts: tuple[Fact, ...] = ()
    links: tuple[Link, ...] = ()
    hidden: tuple[Hidden, ...] = ()
    sentences: tuple[Sentence, ...] = ()
    parts: tuple[Part, ...] = ()
    documents: tuple[Within, ...] = ()  # that the file holds, where it holds several
    alike: tuple[Start, ...] = ()
    why: str = ""
    form: int = FORM


def union(boxes: Iterable[Box]) -> Box:
    """The smallest box around all of them; at least one is needed."""
    x0, y0, x1, y1 = zip(*boxes, strict=True)
    return (min(x0), min(y0), max(x1), max(y1))


def words_box(page: Page, words: tuple[int, ...]) -> Box:
    """The box around some words of a page."""
    x0, y0, x1, y1 = page.words[words[0]].box
    for number in words[1:]:
        word = page.words[number]
        x0, y0 = word.x0 if word.x0 < x0 else x0, word.y0 if word.y0 < y0 else y0
        x1, y1 = word.x1 if word.x1 > x1 else x1, word.y1 if word.y1 > y1 else y1
    return (x0, y0, x1, y1)


_ENCODER = msgspec.json.Encoder()
_DECODER = msgspec.json.Decoder(Document)


class Summary(msgspec.Struct, frozen=True):
    """What is wanted of a stored document at first: how it was read, without its words."""

    format: str
    pages: tuple[msgspec.Raw, ...]
    warnings: tuple[str, ...] = ()
    parts: tuple[Part, ...] = ()
    documents: tuple[Within, ...] = ()


_SUMMARY = msgspec.json.Decoder(Summary)


def summary(data: bytes) -> Summary:
    """The summary of a stored form. Raises `msgspec.DecodeError` when it is not one."""
    return _SUMMARY.decode(data)


def summary_bytes(document: Document) -> bytes:
    """The summary of a document, in the form that `summary` reads."""
    pages = [page.number for page in document.pages]
    told = {"warnings": document.warnings, "parts": document.parts, "documents": document.documents}
    return _ENCODER.encode({"format": document.format, "pages": pages, **told})


def to_bytes(document: Document) -> bytes:
    """The stored form: JSON in UTF-8."""
    return _ENCODER.encode(document)


def from_bytes(data: bytes) -> Document:
    """Read the stored form. Raises `msgspec.DecodeError` when it is not one."""
    return _DECODER.decode(data)
