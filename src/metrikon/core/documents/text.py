"""A document as plain text that keeps its layout: for prompts, for people at a terminal."""

from __future__ import annotations

from metrikon.core.documents.model import Document, Page

SEPARATOR = "   "  # between segments of a line


def page_text(page: Page) -> str:
    """The lines of a page; segments that stand apart are kept apart."""
    return "\n".join(SEPARATOR.join(segment.text for segment in line.segments) for line in page.lines)


def document_text(document: Document) -> str:
    """All pages, each under its number when there are several."""
    if len(document.pages) == 1:
        return page_text(document.pages[0])
    return "\n\n".join(f"[page {page.number}]\n{page_text(page)}" for page in document.pages)
