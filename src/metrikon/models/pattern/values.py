"""Values beside or below a label, read by the type of the field."""

from __future__ import annotations

import re
from collections.abc import Iterator
from decimal import Decimal
from typing import Any

import msgspec

from metrikon.core.documents.model import Page, Segment
from metrikon.core.extraction.indexing.index import LONGEST_DATE, LONGEST_NUMBER, Index, Place
from metrikon.core.records.types import Field
from metrikon.core.values.dates import date_readings, parse_date
from metrikon.core.values.numbers import parse_number
from metrikon.models.pattern.labels import Hit

BESIDE, BELOW = 0.95, 0.88
FAR_BELOW = 3.2  # line heights


class Candidate(msgspec.Struct, frozen=True, gc=False):
    """A value that a field may have, where it stands, and how likely it is (0 to 1)."""

    value: Any
    place: Place
    score: float


def candidates(hit: Hit, index: Index, label_at: set[tuple[int, int]], table_words: set[tuple[int, int]]) -> Iterator[Candidate]:
    """Values for the field of a label: beside it first, then below."""
    page = index.pages[hit.page]
    worth = (1.0 if hit.starts else 0.8) * (1 - min(hit.rank, 20) * 0.003)
    found = False
    for words in _beside(hit, page, label_at):
        for value, place in _read(hit.field, page, words, index):
            found = True
            yield Candidate(value, place, BESIDE * worth * _directly(hit, page, words, place))
        if found:
            return
    if not hit.ends:
        return
    for segment in _below(hit, page):
        words = list(range(segment.first, segment.last))
        if (hit.page, segment.first) in label_at or (hit.page, segment.first) in table_words:
            return
        for value, place in _read(hit.field, page, words, index):
            yield Candidate(value, place, BELOW * worth)
            return


def _directly(hit: Hit, page: Page, words: list[int], place: Place) -> float:
    """1 when the value follows the label at once, less when words stand between ("date of delivery")."""
    between = [page.words[n].text for n in words if n < place.words[0]]
    if words[0] != hit.last:
        between = [page.words[n].text for n in range(hit.last, words[0])] + between
    return 0.72 if any(c.isalpha() for text in between for c in text if len(text) > 1) else 1.0


def _beside(hit: Hit, page: Page, label_at: set[tuple[int, int]]) -> Iterator[list[int]]:
    """Word numbers after the label on its line: the rest of its segment, then the next segments."""
    line = page.lines[hit.line]
    for segment in line.segments:
        if segment.last <= hit.last and not segment.first <= hit.first < segment.last:
            continue
        if segment.last <= hit.first:
            continue
        start = max(segment.first, hit.last)
        words = []
        for number in range(start, segment.last):
            if (page.number, number) in label_at and number != start:
                break
            words.append(number)
        if words and (page.number, words[0]) in label_at:
            return
        if words:
            yield words


def _below(hit: Hit, page: Page) -> Iterator[Segment]:
    """Segments under the label, nearest line first."""
    label = page.words[hit.first]
    right = page.words[hit.last - 1].x1
    height = max(4.0, label.y1 - label.y0)
    for line in page.lines[hit.line + 1 : hit.line + 4]:
        for segment in line.segments:
            near = segment.y0 - label.y1 < FAR_BELOW * height - height and segment.y0 >= label.y0 + 0.5 * height
            aligned = abs(segment.x0 - label.x0) < 1.2 * height or abs(segment.x1 - right) < 1.2 * height
            if near and aligned and min(segment.x1, right) - max(segment.x0, label.x0) > -height:
                yield segment
                break


def _read(field: Field, page: Page, words: list[int], index: Index) -> Iterator[tuple[Any, Place]]:
    """Values of the field's type among some words."""
    texts = [page.words[n].text for n in words]
    skip = 0
    while skip < len(texts) and texts[skip] in (":", "-", "–", "=", "№", "."):
        skip += 1
    texts, words = texts[skip:], words[skip:]
    if not texts:
        return
    if field.kind == "date":
        yield from _dates(page, words, texts, index)
    elif field.kind == "amount":
        yield from _amounts(page, words, texts, index)
    elif "form" in field.ours:
        yield from _formed(str(field.ours["form"]), page, words, texts)
    elif field.kind == "text":
        yield " ".join(texts), Place(page.number, tuple(words))


def _dates(page: Page, words: list[int], texts: list[str], index: Index) -> Iterator[tuple[str, Place]]:
    for start in range(min(3, len(texts))):
        for end in range(min(start + LONGEST_DATE, len(texts)), start, -1):
            text = " ".join(texts[start:end])
            found = parse_date(text, index.day_first)
            if found is not None:
                sure = len(date_readings(text)) == 1 or index.day_first is not None
                yield found.isoformat(), Place(page.number, tuple(words[start:end]), sure)
                return


def _amounts(page: Page, words: list[int], texts: list[str], index: Index) -> Iterator[tuple[Decimal, Place]]:
    """The last amount among the words: rates in percent stand before it."""
    for end in range(len(texts), 0, -1):
        for start in range(max(0, end - LONGEST_NUMBER), end):
            text = " ".join(texts[start:end])
            if "%" in text or (end < len(texts) and texts[end].startswith("%")):
                continue
            value = parse_number(text, index.mark)
            if value is not None and any(c.isdecimal() for c in texts[start]) | (start + 1 < end):
                yield value, Place(page.number, tuple(words[start:end]))
                return


def _formed(form: str, page: Page, words: list[int], texts: list[str]) -> Iterator[tuple[str, Place]]:
    """The first run of at most four words that has the form as a whole."""
    pattern = re.compile(form)
    for start in range(min(3, len(texts))):
        for end in range(min(start + 4, len(texts)), start, -1):
            text = " ".join(texts[start:end]).strip(".,;:()")
            if end > start + 1 and not any(c.isdecimal() for c in texts[end - 1]):
                continue  # the next word is another matter
            if pattern.fullmatch(text) and not date_readings(text):
                yield text, Place(page.number, tuple(words[start:end]))
                return


def merged(found: list[Candidate]) -> list[Candidate]:
    """Candidates with equal values become one, a little likelier; the likeliest first."""
    best: dict[Any, Candidate] = {}
    for each in found:
        before = best.get(each.value)
        if before is None:
            best[each.value] = each
        else:
            higher = max(before, each, key=lambda c: c.score)
            best[each.value] = msgspec.structs.replace(higher, score=min(0.99, higher.score + 0.02))
    return sorted(best.values(), key=lambda c: -c.score)
