"""Several documents in one file: found by page counts that begin again, by numbers of their own, by papers that lie side by side.

What is found is told, never acted upon: a flow says whether the documents of a file are read one by one (`extract: {pages: …}`).
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise

import msgspec

from metrikon.core.documents.lines import in_lines
from metrikon.core.documents.model import Box, Document, Line, Page, Segment, Within
from metrikon.core.documents.order import in_order
from metrikon.core.documents.tables import find_tables
from metrikon.core.records.lexicon import concepts_in, words_of
from metrikon.core.values.dates import date_readings
from metrikon.core.values.numbers import parse_number

PAPERS = ("text", "ocr")  # sources of pages that were papers; what we set on pages ourselves is one document
HEAD, TOP = 0.6, 0.45  # of a page: where the number of a paper stands, and its date
LEAST_LINES = 6  # of a paper that lies beside another
GUTTER = 0.025  # of the width of a page: the least between papers side by side
GAP = 2.2  # times the usual distance of lines: the least between papers one above the other
LETTERHEAD = 0.2  # of a page
MOST_PAPERS, MOST_GAPS = 12, 40
LONGEST_DAY = 5  # words of a date
_PAGE_OF = re.compile(
    r"\b(?:page|seite|blatt|p[aá]gina|pagina|side|sida|strona|pag\.?|p\.|s\.)\s*:?\s*(\d{1,3})\s*(?:/|of|von|de|di|van|af|av|z|sur)\s*(\d{1,3})\b",
    re.IGNORECASE,
)
_CODE = re.compile(r"(?=[^\s]*\d)[\w./#-]{2,30}")


@dataclass(frozen=True)
class _Seen:
    """What a page, or a part of one, says of itself."""

    number: str = ""
    title: str = ""
    totals: frozenset[object] = frozenset()
    dates: frozenset[object] = frozenset()
    head: frozenset[object] = frozenset()  # dates near the top
    amounts: bool = False  # whether it shows any
    letterhead: frozenset[str] = frozenset()  # the words of the top of a page that says there how its sender is reached


def several(document: Document) -> tuple[Within, ...]:
    """The documents within a file, in order; nothing when it holds one, or is no paper."""
    pages = document.pages
    if document.sentences or not pages or any(page.source not in PAPERS for page in pages):
        return ()
    if len(pages) == 1:
        return tuple(_on_one_page(pages[0])) if pages[0].source == "ocr" else ()
    starts = list(_starts(pages))
    if len(starts) < 2:
        return ()
    ends = [*starts[1:], len(pages)]
    return tuple(
        Within(tuple(pages[n].number for n in range(start, end)), None, _seen(pages[start], pages[start].lines).title)
        for start, end in zip(starts, ends, strict=True)
    )


def _starts(pages: Sequence[Page]) -> Iterator[int]:
    """The pages with which a document begins: by "page 1 of 2", by a number of its own where the one before had another, or by a date near
    its top and a total of its own where the one before was complete."""
    yield 0
    now = _Seen()
    for at, page in enumerate(pages):
        seen, count = _seen(page, page.lines), _page_of(page)
        if at and (count[0] == 1 if count is not None else _another(now, seen)):
            yield at
            now = _Seen()
        now = _Seen(
            now.number or seen.number,
            "",
            now.totals | seen.totals,
            now.dates | seen.dates,
            now.head | seen.head,
            now.amounts or seen.amounts,
            now.letterhead or seen.letterhead,
        )


def _another(before: _Seen, seen: _Seen) -> bool:
    """Whether a page begins another document than the one before it is of."""
    if before.number and seen.number:
        return before.number != seen.number
    other = before.totals and seen.totals and before.totals.isdisjoint(seen.totals)
    if other and before.dates and seen.head and not seen.head <= before.dates:
        return True
    return before.amounts and seen.amounts and _unlike(before.letterhead, seen.letterhead)


def _unlike(one: frozenset[str], two: frozenset[str]) -> bool:
    """Whether two letterheads have next to no words in common."""
    return bool(one and two) and len(one & two) <= 0.2 * min(len(one), len(two))


def _page_of(page: Page) -> tuple[int, int] | None:
    """(which, of how many) a page says that it is."""
    for line in page.lines:
        match = _PAGE_OF.search(line.text)
        if match and 1 <= int(match[1]) <= int(match[2]):
            return int(match[1]), int(match[2])
    return None


def _seen(page: Page, lines: Sequence[Line]) -> _Seen:
    """The number of a paper by its label near the head, the sums that are called totals, the dates of the head and all dates."""
    number = title = ""
    totals: set[object] = set()
    dates: set[object] = set()
    head: set[object] = set()
    shown = False
    for at, line in enumerate(lines):
        here = set(_days(line))
        dates |= here
        if page.words[line.first].y0 < TOP * page.height:
            head |= here
        amounts = [amount for word in line.text.split() if _CENTS.search(word) and (amount := parse_number(word.strip("€$£*="))) is not None]
        shown = shown or bool(amounts)
        if amounts and _TOTALS & {concept for concept, _, _ in concepts_in(line.text)}:
            totals.add(amounts[-1])
        if not number and page.words[line.first].y0 < HEAD * page.height:
            label, number = _number(lines, at)
            title = f"{label} {number}".strip()[:60] if number else ""
    return _Seen(number, title, frozenset(totals), frozenset(dates), frozenset(head), shown, _letterhead(page, lines))


_TOWN = re.compile(r"\b\d{4,5}(?: ?[A-Z]{2})?,? [A-ZÀ-Þ][a-zà-þ]+")  # a postal code and a town
_REACHED = re.compile(r"@|\bwww\.|\b(?:tel|phone|fon|fax|mobile|t[eé]l)\b\.?:?|\b[A-Z]{2}[A-Z]?\d{8,}|\(\d{3}\) ?\d{3}", re.IGNORECASE)


def _letterhead(page: Page, lines: Sequence[Line]) -> frozenset[str]:
    """The words of the top of a page, where it names a mail address, a web page or a telephone there; nothing elsewhere."""
    texts = [line.text for line in lines if page.words[line.first].y0 < LETTERHEAD * page.height]
    reached = any(_REACHED.search(text) for text in texts) or (
        any(_TOWN.search(text) for text in texts) and not any(_CENTS.search(word) for text in texts for word in text.split())
    )
    return frozenset(word for text in texts for word in words_of(text) if len(word) > 3 and word.isalpha()) if reached else frozenset()


def _days(line: Line) -> Iterator[object]:
    """The days on a line, each in as few words as it takes."""
    for segment in line.segments:
        words = segment.text.split() if _DATED.search(segment.text) else []
        for first in (n for n, word in enumerate(words) if any(c.isdecimal() for c in word)):
            for count in range(1, LONGEST_DAY + 1):
                found = date_readings(" ".join(words[max(0, first - 1) if count > 2 else first : first + count]).strip(",;()")) or date_readings(
                    " ".join(words[first : first + count]).strip(",;()")
                )
                if found:
                    yield from found
                    break


_DATED = re.compile(r"\d{1,4}\s?[./-]\s?\d{1,2}|\b(?:19|20)\d\d\b|\d\s*'\d\d\b")
_TOTALS = {"gross", "balance", "paid"}
_CENTS = re.compile(r"\d[.,]\d\d\D*$")


def _number(lines: Sequence[Line], at: int) -> tuple[str, str]:
    """The label and the number of a paper that stand on a line: after the label, in the next piece of print, or below it."""
    segments = lines[at].segments
    for n, segment in enumerate(segments):
        words = segment.text.split()
        first = next((k for k, word in enumerate(words) if any(c.isdecimal() for c in word)), len(words))
        label = " ".join(words[max(0, first - 4) : first]).strip(" :.#º°")
        if _ends_with(label) != "number":
            continue
        below = [s for s in lines[at + 1].segments if min(s.x1, segment.x1) > max(s.x0, segment.x0)] if at + 1 < len(lines) else []
        following = [words[first:], *(each.text.split() for each in (*segments[n + 1 : n + 2], *below[:1]))]
        value = next((part[0] for part in following if part and _CODE.fullmatch(part[0]) and not date_readings(part[0])), "")
        if value:
            return label, value.strip("#.:")
    return "", ""


def _ends_with(label: str) -> str:
    """The concept of the phrase with which a label ends."""
    count = len(words_of(label))
    return next((concept for concept, at, length in reversed(concepts_in(label)) if at + length == count), "") if count else ""


def _on_one_page(page: Page) -> Iterator[Within]:
    """Papers that lie on one page: each with a total and a date of its own, and another total or number than the others."""
    boxes = [box for box in _blocks(page, page.lines) if box is not None]
    if not 2 <= len(boxes) <= MOST_PAPERS:
        return
    seen = [_seen(part, part.lines) for box in boxes for part in [_cut_page(page, box)]]
    whole = [each for each in seen if each.totals and each.dates]
    apart = {(each.number, each.totals) for each in whole}
    if len(whole) < 2 or len(whole) < len(boxes) or len(apart) < len(whole):
        return
    numbers = [each.number for each in whole]
    if len({number for number in numbers if number}) < len(numbers) and len({each.totals for each in whole}) < len(whole):
        return
    for box, each in zip(boxes, seen, strict=True):
        yield Within((page.number,), box, each.title)


def _blocks(page: Page, lines: Sequence[Line]) -> list[Box | None]:
    """The boxes of what stands apart on a page: beside each other with nothing between from top to bottom, or one above the other."""
    segments = [segment for line in lines for segment in line.segments]
    if len(segments) < 2 * LEAST_LINES:
        return []
    for cut in _gutters(sorted((segment.x0, segment.x1) for segment in segments), GUTTER * page.width):
        left = [segment for segment in segments if segment.x1 <= cut]
        right = [segment for segment in segments if segment.x0 >= cut]
        if min(len(left), len(right)) >= LEAST_LINES and _alike_high(left, right):
            return [*_stacked(page, 0.0, cut), *_stacked(page, cut, page.width)]
    return list(_stacked(page, 0.0, page.width))


def _alike_high(left: Sequence[Segment], right: Sequence[Segment]) -> bool:
    """Whether two columns stand beside each other over most of the height of the lower one."""
    spans = [(min(each.y0 for each in side), max(each.y1 for each in side)) for side in (left, right)]
    shared = min(span[1] for span in spans) - max(span[0] for span in spans)
    return shared > 0.6 * min(span[1] - span[0] for span in spans)


def _gutters(spans: Sequence[tuple[float, float]], least: float) -> Iterator[float]:
    """The middles of the gaps that no span covers, widest first."""
    gaps = []
    end = spans[0][1] if spans else 0.0
    for x0, x1 in spans:
        if x0 - end > least:
            gaps.append((x0 - end, (x0 + end) / 2))
        end = max(end, x1)
    return (middle for _, middle in sorted(gaps, reverse=True))


def _stacked(page: Page, x0: float, x1: float) -> Iterator[Box]:
    """Papers one above the other within a column: a wide gap, after which a number or a date comes anew."""
    rows = sorted((s.y0, s.y1) for line in page.lines for s in line.segments if x0 <= (s.x0 + s.x1) / 2 < x1)
    if not rows:
        return
    pitches = sorted(b[0] - a[0] for a, b in pairwise(rows) if b[0] - a[0] > 1)
    usual = pitches[len(pitches) // 2] if pitches else 12.0
    top, end, tried = 0.0, rows[0][1], 0
    for y0, y1 in rows:
        if y0 - end > GAP * usual and tried < MOST_GAPS:
            tried += 1
            cut = (y0 + end) / 2
            parts = [_seen(part, part.lines) for part in (_cut_page(page, (x0, top, x1, cut)), _cut_page(page, (x0, cut, x1, page.height)))]
            if all(each.totals and each.dates for each in parts) and parts[0].totals.isdisjoint(parts[1].totals):
                yield (x0, top, x1, cut)
                top = cut
        end = max(end, y1)
    yield (x0, top, x1, page.height)


def _cut_page(page: Page, box: Box) -> Page:
    x0, y0, x1, y1 = box
    words = [word for word in page.words if x0 <= (word.x0 + word.x1) / 2 < x1 and y0 <= (word.y0 + word.y1) / 2 < y1]
    ordered, lines = in_lines(words)
    return in_order(msgspec.structs.replace(page, words=ordered, lines=lines))


def cut(document: Document, pages: Sequence[int], box: Box | None = None) -> Document:
    """A document of some pages of another, numbered as there; of one page only what stands within `box`."""
    wanted = set(pages)
    kept = tuple(page for page in document.pages if page.number in wanted)
    if box is not None:
        kept = tuple(_cut_page(page, box) for page in kept)
        tables = find_tables(kept)
    else:
        tables = tuple(table for table in document.tables if wanted.issuperset(table.pages))
        tables = tables or find_tables(kept)
    facts = tuple(fact for fact in document.facts if fact.page in wanted)
    return msgspec.structs.replace(
        document,
        pages=kept,
        tables=tables,
        facts=facts if box is None else (),
        links=tuple(link for link in document.links if link.page in wanted),
        hidden=tuple(each for each in document.hidden if each.page in wanted),
        documents=(),
    )
