"""Every typed value of a document with the words around it: amounts, dates, numbers of telephones and accounts, addresses, times."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from metrikon.core.documents.model import Page, Segment
from metrikon.core.extraction.indexing.index import Index, Place, has_digit
from metrikon.core.values.dates import date_readings, parse_date
from metrikon.core.values.times import parse_time
from metrikon.core.values.web import parse_mail

LABEL_WORDS = 7
BEFORE, ABOVE, AFTER = 1.0, 0.85, 0.62
FAR_ABOVE = 3.4  # heights of a line
PUNCTUATION = " \t:;,.|·–-=>"
_PHONE = re.compile(r"(?:\+|\(0?|0)[\d][\d ()/.\-]{5,20}\d")
_MAIL = re.compile(r"[\w.+-]{1,64}@[\w-]+(?:\.[\w-]+)+")
_WEB = re.compile(r"(?:https?://|www\.)[^\s<>,;]+|\b[\w-]+(?:\.[\w-]+)*\.(?:com|org|net|example|de|fr|es|it|nl|uk|eu|ch|at|be)\b(?:/[^\s,;]*)?")
_IBAN = re.compile(r"\b[A-Z]{2}\d{2}(?: ?[A-Z0-9]{3,4}){3,8}(?: ?[A-Z0-9]{1,3})?\b")
_TAX = re.compile(r"\b(?:[A-Z]{2,3}[ .-]?)?[A-Z]?\d[\d .]{5,14}\d(?:[ .]?(?:[A-Z]{1,2}|B\d\d|MWST|IVA|TVA))?\b")
_TIME = re.compile(r"\b\d{1,2}\s?[:.hu]\s?\d{2}(?::\d{2})?(?:\s?[ap]\.?m\.?)?\b|\b\d{1,2}\s?(?:[ap]\.?m\b|uhr\b|uur\b|h\b|heures\b)", re.IGNORECASE)


@dataclass(frozen=True)
class Mention:
    """A typed value that stands somewhere, with the words around it: (text, how much they count). `sign`: what it is printed with."""

    kind: str
    value: Any
    place: Place
    line: int
    labels: tuple[tuple[str, float], ...]
    sign: str = ""
    decimals: int = 0
    aside: bool = False  # it stands in brackets or after a word such as "on": what a rate is of, not what comes of it


def mentions(index: Index) -> list[Mention]:
    """All typed values of a document."""
    return index.once("mentions", lambda each: list(_mentions(each)))


def _mentions(index: Index) -> Iterator[Mention]:
    dated: set[tuple[int, int]] = set()
    for places in index.dates.values():
        for place in places:
            dated.update((place.page, number) for number in place.words)
    for day, places in index.dates.items():
        for place in {(p.page, p.words): p for p in places}.values():
            readings = date_readings(index.quote(place))
            if len(readings) > 1 and parse_date(index.quote(place), index.day_first) != day:
                continue
            yield _mention(index, "date", day.isoformat(), place)
    for here in index.numbers_at.values():
        for place, value in here:
            text = index.quote(place)
            if (place.page, place.words[0]) in dated or _within(place, here):
                continue
            decimals = (
                len(match.group(1))
                if ((match := re.search(r"[.,](\d{1,4})\D*$", text)) and value != value.to_integral_value())
                or (match := re.search(r"[.,](\d{2})\D*$", text))
                else 0
            )
            yield _mention(index, "amount", value, place, _sign(index, place), decimals)
    for page in index.document.pages:
        for number, line in enumerate(page.lines):
            text = line.text
            yield from _matched(index, page, number, text, dated)


def _within(place: Place, here: Sequence[tuple[Place, Decimal]]) -> bool:
    """Whether a longer number begins at the same word: "1 224,00" is not 1."""
    return any(other.words[: len(place.words)] == place.words and len(other.words) > len(place.words) for other, _ in here)


def _sign(index: Index, place: Place) -> str:
    page = index.pages[place.page]
    line = page.lines[page.line_of[place.words[0]]]
    after = page.words[place.words[-1] + 1].text if place.words[-1] + 1 < line.last else ""
    before = page.words[place.words[0] - 1].text if place.words[0] > line.first else ""
    own = index.quote(place)
    if own.endswith("%") or after.startswith("%"):
        return "%"
    return "money" if re.search(r"[€£$]|\b(?:EUR|CHF|GBP|USD)\b", f"{before} {own} {after}") else ""


def _matched(index: Index, page: Page, number: int, text: str, dated: set[tuple[int, int]]) -> Iterator[Mention]:
    if "@" in text:
        for match in _MAIL.finditer(text):
            if found := parse_mail(match.group()):
                yield from _at(index, page, number, "mail", found, match.group())
    if not has_digit(text):
        if "." in text:
            for match in _WEB.finditer(text):
                if "@" not in text[max(0, match.start() - 1) : match.end()]:
                    yield from _at(index, page, number, "web address", match.group(), match.group())
        return
    taken: list[tuple[int, int]] = []
    for match in _IBAN.finditer(text):
        taken.append(match.span())
        yield from _at(index, page, number, "iban", match.group(), match.group())
    for match in _PHONE.finditer(text):
        if not any(a < match.end() and match.start() < b for a, b in taken) and sum(c.isdecimal() for c in match.group()) >= 7:
            words = _words_at(page, number, match.group())
            if words and (page.number, words[0]) not in dated:
                yield from _at(index, page, number, "phone", match.group(), match.group())
    for match in _TIME.finditer(text):
        said = re.sub(r"\s?([ap])\.?m\.?$", r"\1m", match.group(), flags=re.IGNORECASE)
        said = re.sub(r"\s?(?:[hu]|uhr|uur|heures)\s?(?=\d|$)", ":", said, flags=re.IGNORECASE)
        found_time = parse_time(said + "00" if said.endswith(":") else said)
        words = _words_at(page, number, match.group()) if found_time is not None else []
        if found_time is not None and words and ((page.number, words[0]) not in dated or ":" in match.group()):
            yield from _at(index, page, number, "time", found_time.strftime("%H:%M"), match.group())


def _at(index: Index, page: Page, line: int, kind: str, value: Any, text: str) -> Iterator[Mention]:
    words = _words_at(page, line, text)
    if words:
        yield _mention(index, kind, value, Place(page.number, tuple(words)))


def _words_at(page: Page, line: int, text: str) -> list[int]:
    """The words of a line that a piece of its text stands on."""
    whole = page.lines[line]
    at, low = whole.text.find(text), 0
    if at < 0:
        return []
    found = []
    for segment in whole.segments:
        for number in range(segment.first, segment.last):
            start = low
            low += len(page.words[number].text) + 1
            if start < at + len(text) and at < low - 1:
                found.append(number)
    return found


def _mention(index: Index, kind: str, value: Any, place: Place, sign: str = "", decimals: int = 0) -> Mention:
    page = index.pages[place.page]
    return Mention(
        kind, value, place, page.line_of[place.words[0]], tuple(labels_of(index, place)), sign, decimals, kind == "amount" and _aside(page, place)
    )


_OF_WHAT = frozenset(
    ["base", "on", "of", "von", "auf", "aus", "sur", "de", "sobre", "su", "di", "over", "op", "van", "ud", "af", "pa", "av", "od", "x", "*", "×"]
)


def _aside(page: Page, place: Place) -> bool:
    """Whether an amount is what another one is worked out from."""
    line = page.lines[page.line_of[place.words[0]]]
    before = [page.words[n].text for n in range(line.first, place.words[0])]
    text = " ".join(before)
    closes = page.words[place.words[-1]].text.endswith((")", "):"))
    return text.count("(") > text.count(")") or closes or bool(before and before[-1].lower().strip("(") in _OF_WHAT)


def labels_of(index: Index, place: Place) -> Iterator[tuple[str, float]]:
    """The words that may say what stands at a place: before it on its line, above it, after it."""
    page = index.pages[place.page]
    number = page.line_of[place.words[0]]
    line = page.lines[number]
    at = next(n for n, segment in enumerate(line.segments) if segment.first <= place.words[0] < segment.last)
    segment = line.segments[at]
    inside = _said(page, range(max(segment.first, place.words[0] - LABEL_WORDS), place.words[0]))
    if inside:
        yield inside, BEFORE
    else:
        for before in range(at - 1, -1, -1):
            text = line.segments[before].text
            if any(c.isalpha() for c in text) and not (has_digit(text) and before > 0 and len(text) < 18):
                yield text, BEFORE if before == at - 1 else BEFORE * 0.93
                break
    above = _above(page, number, segment, index)
    if above:
        yield above, ABOVE if not inside else ABOVE * 0.7
    after = _said(page, range(place.words[-1] + 1, min(segment.last, place.words[-1] + 1 + LABEL_WORDS)))
    if after:
        yield after, AFTER if inside else AFTER * 1.25
    elif at == 0 and len(line.segments) > 1 and place.words[-1] == segment.last - 1 and not inside:
        yield line.segments[1].text, AFTER * 1.25


def _said(page: Page, numbers: range) -> str:
    """The words of a label: what stands after the last figure or full stop before the value."""
    words = [page.words[n].text for n in numbers]
    while words and not any(c.isalnum() for c in words[-1]):
        words.pop()
    return " ".join(words).strip(PUNCTUATION)


def _above(page: Page, number: int, segment: Segment, index: Index) -> str:
    """The head over a value: the nearest piece of print above it without figures, aligned at either edge or overlapping."""
    height = max(4.0, segment.y1 - segment.y0)
    for above in range(number - 1, max(-1, number - 4), -1):
        for other in page.lines[above].segments:
            if segment.y0 - other.y1 > FAR_ABOVE * height:
                return ""
            shared = min(segment.x1, other.x1) - max(segment.x0, other.x0)
            if shared > 0.3 * min(segment.x1 - segment.x0, other.x1 - other.x0):
                return other.text if not has_digit(other.text) and len(other.text) < 50 else ""
    return ""
