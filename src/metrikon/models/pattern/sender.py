"""Who sent a document and what it calls itself: read from its letterhead."""

from __future__ import annotations

import re
from dataclasses import dataclass

from metrikon.core.documents.model import Page, Segment
from metrikon.core.extraction.indexing.index import Index, Place, squeezed
from metrikon.core.records.types import Field
from metrikon.core.values.text import fold, folded_words

_FORMS = {
    "ltd",
    "limited",
    "llp",
    "plc",
    "inc",
    "llc",
    "corp",
    "co",
    "gmbh",
    "kg",
    "ag",
    "ohg",
    "ek",
    "e.k",
    "ug",
    "sarl",
    "s.a.r.l",
    "sas",
    "s.a.s",
    "sa",
    "scea",
    "eurl",
    "bv",
    "b.v",
    "vof",
    "v.o.f",
    "nv",
    "n.v",
    "bvba",
    "srl",
    "spa",
    "sons",
    "cooperative",
    "cooperatief",
}
_SITE = re.compile(r"(?:www\.|https?://|@)([a-z0-9-]+(?:\.[a-z0-9-]+)*)\.[a-z]{2,8}", re.IGNORECASE)
_PARTS = re.compile(r"\s+[·|•]\s+|\s{2,}|,\s")
_TO = {"bill to", "invoice to", "sold to", "ship to", "deliver to", "rechnung an", "an", "facture a", "client", "factuur aan", "to", "customer"}


@dataclass(frozen=True)
class Guess:
    """A text with its place and a score from 0 to 1."""

    text: str
    place: Place
    score: float


def front(index: Index) -> Page:
    """The page that says whose the paper is: the first; of several files that are read as one the fullest that begins a file."""
    pages = index.document.pages
    if not pages[0].part:
        return pages[0]
    begins = [page for before, page in zip((None, *pages), pages, strict=False) if before is None or before.part != page.part]
    return max(begins, key=lambda page: len(page.words))


def sender(index: Index) -> Guess | None:
    """The name of the sender: large, at the top, with a legal form, like its own web address, repeated at the foot."""
    page = front(index)
    sites = [squeezed(m) for m in _SITE.findall("\n".join(line.text for line in page.lines))]
    usual = _usual_height(page)
    receivers = _receivers(page)
    best: Guess | None = None
    for number, line in enumerate(page.lines):
        for segment in line.segments:
            for text, words in _pieces(page, segment):
                if number in receivers or not 3 <= len(text) <= 70 or not text[0].isalpha():
                    continue
                score = _score(page, segment, text, usual, sites, index)
                if best is None or score > best.score:
                    best = Guess(text, Place(page.number, words), score)
    return best if best and best.score >= 2 else None


def large_print(index: Index) -> Guess | None:
    """The largest piece of print in the upper part of the first page, with what goes on with it on the next line."""
    page = front(index)
    top = [s for line in page.lines for s in line.segments if s.y0 < 0.45 * page.height and any(c.isalpha() for c in s.text)]
    if not top:
        return None
    tallest = max(s.y1 - s.y0 for s in top)
    first = next((s for s in top if s.y1 - s.y0 >= 0.92 * tallest and len(s.text) > 2), None)
    if first is None:
        return None
    words = list(range(first.first, first.last))
    for line in page.lines[page.line_of[first.first] + 1 : page.line_of[first.first] + 2]:
        more = line.segments[0]
        alike = abs((more.y1 - more.y0) - (first.y1 - first.y0)) < 0.08 * (first.y1 - first.y0) and tallest > 1.25 * _usual_height(page)
        centred = abs((more.x0 + more.x1) - (first.x0 + first.x1)) < 2 * (first.y1 - first.y0)
        if (
            alike
            and (centred or abs(more.x0 - first.x0) < 3 * (first.y1 - first.y0))
            and more.y0 - first.y1 < first.y1 - first.y0
            and not any(c.isdecimal() for c in more.text)
        ):
            words += range(more.first, more.last)
    text = " ".join(page.words[n].text for n in words).strip(" ,;:·|")
    return Guess(text, Place(page.number, tuple(words)), 0.6 if tallest > 1.2 * _usual_height(page) else 0.5)


def _pieces(page: Page, segment: Segment) -> list[tuple[str, tuple[int, ...]]]:
    """A segment as a whole, or its parts between dots when it lists a whole address."""
    words = tuple(range(segment.first, segment.last))
    if not any(page.words[n].text in "·|•" for n in words):
        return [(segment.text.strip(" ,;:"), words)]
    pieces: list[tuple[int, ...]] = [()]
    for n in words:
        if page.words[n].text in "·|•":
            pieces.append(())
        else:
            pieces[-1] = (*pieces[-1], n)
    return [(" ".join(page.words[n].text for n in piece), piece) for piece in pieces if piece]


def _score(page: Page, segment: Segment, text: str, usual: float, sites: list[str], index: Index) -> float:
    words = folded_words(text)
    score = 0.0
    if _FORMS & set(words):
        score += 2
    height = segment.y1 - segment.y0
    score += 2.0 if height > 1.45 * usual else 1.0 if height > 1.2 * usual else 0.0
    score += 1.0 if segment.y0 < 0.16 * page.height else 0.0
    if any(len(w) > 3 and any(squeezed(w) in site for site in sites) for w in words):
        score += 2
    if len(index.find_text(text)) > 1:
        score += 1
    if any(c.isdecimal() for c in text) or ":" in text or _SITE.search(text):
        score -= 4
    return score


def _receivers(page: Page) -> set[int]:
    """Lines of the addressee: up to four below a word such as "Bill to"."""
    found: set[int] = set()
    for number, line in enumerate(page.lines):
        for segment in line.segments:
            if fold(segment.text) in _TO:
                found.update(n for n in range(number + 1, number + 5) if n < len(page.lines) and _under(page, n, segment))
    return found


def _under(page: Page, number: int, segment: Segment) -> bool:
    return abs(page.lines[number].segments[0].x0 - segment.x0) < 15


def _usual_height(page: Page) -> float:
    heights = sorted(word.y1 - word.y0 for word in page.words)
    return heights[len(heights) // 2] if heights else 10.0


def title(field: Field, index: Index) -> Guess | None:
    """What the document calls itself, among the words that stand for the options of the field."""
    page = front(index)
    usual = _usual_height(page)
    found: list[Guess] = []
    for option, signs in (field.ours.get("means") or {}).items():
        for sign in signs:
            wanted = folded_words(sign)
            for line in page.lines:
                for segment in line.segments:
                    words = folded_words(segment.text)
                    if words[: len(wanted)] != wanted:
                        continue
                    height = segment.y1 - segment.y0
                    alone = len(words) <= len(wanted) + 3
                    score = (0.9 if alone else 0.5) + 0.3 * min(height / usual - 1, 1) + 0.02 * len(wanted)
                    place = Place(page.number, tuple(range(segment.first, min(segment.last, segment.first + len(wanted)))))
                    found.append(Guess(option, place, score - 0.2 * segment.y0 / page.height))
    return max(found, key=lambda guess: guess.score, default=None)
