"""Page pictures with the boxes of words and table cells drawn on them, to see what reading made of a page."""

from __future__ import annotations

import io
from collections.abc import Iterator

from PIL import Image, ImageDraw

from metrikon.core.documents.drawing import drawn
from metrikon.core.documents.model import Box, Document, Page, words_box

WORD, CELL, SURE = "#1f5c4d", "#b26a00", 0.8


def marks(document: Document, page: Page) -> Iterator[tuple[Box, str]]:
    """Boxes of a page: words thin, cells of tables in another colour."""
    for word in page.words:
        yield word.box, WORD
    for table in document.tables:
        for row in (table.header, *table.rows):
            for cell in row:
                if cell.page == page.number and cell.words:
                    x0, y0, x1, y1 = words_box(page, cell.words)
                    yield (x0 - 2, y0 - 2, x1 + 2, y1 + 2), CELL


def marked(document: Document, number: int, picture: bytes) -> bytes:
    """A page picture (PNG) with its boxes drawn; the picture shows the page upright."""
    page = document.pages[number - 1]
    image = Image.open(io.BytesIO(picture)).convert("RGB")
    across, down = image.width / page.width, image.height / page.height
    pen = ImageDraw.Draw(image)
    for (x0, y0, x1, y1), colour in marks(document, page):
        pen.rectangle((x0 * across, y0 * down, x1 * across, y1 * down), outline=colour, width=1 if colour == WORD else 2)
    out = io.BytesIO()
    image.save(out, "PNG")
    return out.getvalue()


def marked_set(document: Document, number: int) -> bytes:
    """A page that was set by us, as SVG with its boxes drawn."""
    return drawn(document, number, marks(document, document.pages[number - 1]))
