"""A document as plain text that keeps its layout: for prompts, for people at a terminal."""

from __future__ import annotations

from itertools import groupby

from metrikon.core.documents.model import Document, Line, Page, Segment

SEPARATOR = "   "  # between segments of a line


def page_text(page: Page) -> str:
    """The lines of a page; segments that stand apart are kept apart."""
    return "\n".join(line_text(page, line) for line in page.lines)


def line_text(page: Page, line: Line) -> str:
    """One line; words that are crossed out say so."""
    struck = any(word.struck for word in page.words[line.first : line.last])
    return SEPARATOR.join(_crossed(page, s) if struck else s.text for s in line.segments)


def _crossed(page: Page, segment: Segment) -> str:
    """The text of a segment; words that are crossed out say so."""
    parts = []
    for crossed, words in groupby(page.words[segment.first : segment.last], key=lambda word: word.struck):
        text = " ".join(word.text for word in words)
        parts.append(f"[crossed out: {text}]" if crossed else text)
    return " ".join(parts)


def document_text(document: Document) -> str:
    """All pages, each under its number when there are several."""
    if len(document.pages) == 1:
        return page_text(document.pages[0])
    return "\n\n".join(f"[page {page.number}]\n{page_text(page)}" for page in document.pages)
