"""Pages that were set by us, drawn as SVG 1.1: every word exactly in its box, nothing in it that runs or loads."""

from __future__ import annotations

from collections.abc import Iterable
from xml.sax.saxutils import escape

from metrikon.core.documents.model import Box, Document, Page
from metrikon.core.values.text import xml_text

MONO = "'Atkinson Hyperlegible Mono','DejaVu Sans Mono','Liberation Mono',Menlo,Consolas,monospace"


def drawn(document: Document, number: int, marks: Iterable[tuple[Box, str]] = ()) -> bytes:
    """Page `number` (from 1) as SVG; `marks`: boxes to outline, each with its colour. Raises IndexError without such a page."""
    page = document.pages[number - 1]
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {page.width:g} {page.height:g}" width="{page.width:g}" height="{page.height:g}">',
        f'<rect width="{page.width:g}" height="{page.height:g}" fill="#ffffff"/>',
        *_rules(document, page),
        f'<g font-family="{MONO}" font-size="10" fill="#16211f">',
    ]
    for word in page.words:
        struck = ' text-decoration="line-through" fill="#54625f"' if word.struck else ""
        text = escape(xml_text(word.text))
        wide = word.x1 - word.x0
        size = f' font-size="{(word.y1 - word.y0) * 0.9:.1f}"' if page.part else ""  # its print has sizes of its own
        low = word.y1 - (word.y1 - word.y0) * 0.22
        parts.append(f'<text x="{word.x0:g}" y="{low:g}"{size} textLength="{wide:g}" lengthAdjust="spacingAndGlyphs"{struck}>{text}</text>')
    parts.append("</g>")
    for (x0, y0, x1, y1), colour in marks:
        parts.append(f'<rect x="{x0:g}" y="{y0:g}" width="{x1 - x0:g}" height="{y1 - y0:g}" fill="none" stroke="{colour}" stroke-width="0.8"/>')
    parts.append("</svg>")
    return "\n".join(parts).encode()


def drawn_small(document: Document, number: int) -> bytes:
    """The print of page `number` as bars, near enough to be told from other pages at the size of a stamp."""
    page = document.pages[number - 1]
    wide = max((word.x1 for word in page.words), default=page.width) + 20
    tall = wide * page.height / page.width
    bars = "".join(f'<rect x="{w.x0:g}" y="{w.y0:g}" width="{w.x1 - w.x0:g}" height="{(w.y1 - w.y0) * 0.8:g}"/>' for w in page.words if w.y0 < tall)
    head = f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {wide:g} {tall:g}" width="{wide:g}" height="{tall:g}">'
    return f'{head}<rect width="{wide:g}" height="{tall:g}" fill="#ffffff"/><g fill="#54625f">{bars}</g></svg>'.encode()


def _rules(document: Document, page: Page) -> list[str]:
    """A hairline under the header of each table on the page."""
    found = []
    for table in document.tables:
        words = [page.words[n] for cell in table.header if cell.page == page.number for n in cell.words]
        if words:
            y = max(word.y1 for word in words) + 1.5
            right = max(
                (w.x1 for row in table.rows for cell in row if cell.page == page.number for w in (page.words[n] for n in cell.words)), default=0
            )
            right = max(right, max(word.x1 for word in words))
            found.append(f'<line x1="{min(w.x0 for w in words):g}" x2="{right:g}" y1="{y:g}" y2="{y:g}" stroke="#b9c6c2" stroke-width="0.8"/>')
    return found
