"""Names given whole: a model that gives a part of a name is given the rest of it, where the print shows that it goes on.

Within a piece of print a name goes on over words that begin with capitals, up to a mark; at the head of a slip it may stand on two lines.
"""

from __future__ import annotations

from typing import Any

from metrikon.core.documents.model import Line, Page, Segment
from metrikon.core.extraction.indexing.index import Index, has_digit
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.lexicon import concepts_in
from metrikon.core.records.meaning import concept_of
from metrikon.core.records.types import Field

OF_HOUSES = ("sender", "employer", "school")
MOST_LEFT, MOST_RIGHT, LONGEST = 3, 3, 70  # words, words, characters
HEAD = 3  # lines of a slip that may hold its name
_MARKS = ",;:.|·•()–-"


def whole_name(field: Field, value: Any, evidence: Evidence, index: Index) -> str | None:
    """The whole name of a house of which a value is a part; None when it is whole, or nobody can tell."""
    concept = concept_of(field)
    if concept not in OF_HOUSES or not isinstance(value, str) or evidence.how != "printed" or evidence.box is None:
        return None
    place = next((each for each in index.find_text(value) if each.exact and each.page == evidence.page), None)
    if place is None or index.document.sentences:
        return None
    page = index.pages[place.page]
    line = page.lines[page.line_of[place.words[0]]]
    segment = next((each for each in line.segments if each.first <= place.words[0] < each.last), None)
    if segment is None or place.words[-1] >= segment.last:
        return None
    first, last = place.words[0], place.words[-1] + 1
    last = _right(page, segment, last)
    if concept != "sender" and last == segment.last:
        below = _below(page, line, segment)
        last = _right(page, below, last) if below is not None else last
    if concept == "sender" and page.number == 1 and segment.y0 < 0.45 * page.height:
        first = _left(page, segment, first)
        if (first, last) == (segment.first, segment.last):
            beside = _second_line(page, line)
            if beside is not None:
                words = sorted([*range(first, last), *range(beside.first, beside.last)])
                return _text(page, words)
    if (first, last) == (place.words[0], place.words[-1] + 1):
        return None
    return _text(page, list(range(first, last)))


def _text(page: Page, words: list[int]) -> str | None:
    text = " ".join(page.words[n].text for n in words).strip(f" {_MARKS}")
    return text if len(text) <= LONGEST else None


def _goes_on(text: str) -> bool:
    """Whether a word may be part of a name: it begins with a capital, holds no figure and says nothing of what stands beside it."""
    return text[:1].isupper() and not has_digit(text) and ":" not in text and not {concept for concept, _, _ in concepts_in(text)} - set(OF_HOUSES)


def _right(page: Page, segment: Segment, last: int) -> int:
    taken = 0
    while last < segment.last and taken < MOST_RIGHT and page.words[last - 1].text[-1] not in _MARKS and _goes_on(page.words[last].text):
        last, taken = last + 1, taken + 1
    return last


def _left(page: Page, segment: Segment, first: int) -> int:
    """From where the name begins: the beginning of its piece of print, where nothing but a few words of a name stand before it."""
    before = [page.words[n].text for n in range(segment.first, first)]
    whole = len(before) <= MOST_LEFT and all(_goes_on(text) and text[-1] not in _MARKS for text in before)
    return segment.first if whole else first


def _below(page: Page, line: Line, segment: Segment) -> Segment | None:
    """The piece of print that a piece goes on in on the next line, because its next word had no room beside it."""
    at = page.lines.index(line) + 1
    found = (each for each in (page.lines[at].segments if at < len(page.lines) else ()) if abs(each.x0 - segment.x0) < 2)
    below = next((each for each in found if each.first == segment.last), None)
    if below is None:
        return None
    right = max(each.x1 for other in page.lines for each in other.segments if abs(each.x0 - segment.x0) < 2)
    word = page.words[below.first]
    return below if segment.x1 + (word.x1 - word.x0) > right else None


def _second_line(page: Page, line: Line) -> Segment | None:
    """The other line of a name in capitals that stands on the first lines of a slip, one under the other."""
    at = page.lines.index(line)
    for other in (at - 1, at + 1):
        if not (at < HEAD and 0 <= other < min(HEAD, len(page.lines))) or len(line.segments) != 1 or len(page.lines[other].segments) != 1:
            continue
        one, two = line.segments[0], page.lines[other].segments[0]
        high = one.y1 - one.y0
        near = max(one.y0, two.y0) - min(one.y1, two.y1) < high and abs((one.x0 + one.x1) - (two.x0 + two.x1)) < 2 * high
        if near and one.text.isupper() and two.text.isupper() and not has_digit(two.text) and _goes_on(two.text):
            return two
    return None
