"""A document indexed for finding values: by squeezed text, by amount, by date. Built once, in linear time."""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Callable, Iterator, Sequence
from datetime import date
from decimal import Decimal
from functools import cached_property, lru_cache
from itertools import accumulate
from typing import Any, TypeVar

import msgspec

from metrikon.core.documents.model import Cell, Document, Page, Segment, Table
from metrikon.core.extraction.indexing.countries import named_country
from metrikon.core.values.dates import MONTHS, date_readings, day_first
from metrikon.core.values.languages import language_of
from metrikon.core.values.number_words import plain
from metrikon.core.values.numbers import CURRENCY_CODES, currency_in, decimal_mark, parse_number
from metrikon.core.values.text import fold

_DIGIT = re.compile(r"\d").search


def has_digit(text: str) -> bool:
    """Whether a text holds a figure; most do not, and say so at once."""
    return not text.isalpha() and _DIGIT(text) is not None


# two marks between figures, or the beginning of a month's name (in small letters, without accents) and figures beside it
_MONTH = "|".join(sorted({name[:3] for name in MONTHS}))
_MAY_BE_DATE = re.compile(r"\d\s?[./-]\s?\d{1,2}\s?[./-]|\d{4}\s?[./-]").search
_MONTH_AND_FIGURE = re.compile(
    rf"(?<!\d)(?:19|20)\d\d(?!\d)|(?:{_MONTH})[^\W\d]{{0,7}}\.?[\s,-]*\d|\d[a-z]{{0,2}}\.?[\s-]*(?:de |of )?(?:{_MONTH})"
).search
_COUNTRY_CODE = re.compile(r"\b(AT|BE|CH|CZ|DE|DK|ES|FI|FR|GB|IE|IT|LU|NL|NO|PL|PT|SE)(?=U?\d{2}[ .\dA-Z]{6,})").finditer
_CODES, _SIGN = frozenset(CURRENCY_CODES), frozenset("€£$¥złKč")
_ONE_COUNTRY = {
    "GBP": "GB",
    "CHF": "CH",
    "SEK": "SE",
    "NOK": "NO",
    "DKK": "DK",
    "PLN": "PL",
    "CZK": "CZ",
    "HUF": "HU",
    "USD": "US",
    "CAD": "CA",
    "AUD": "AU",
    "NZD": "NZ",
    "JPY": "JP",
    "ZAR": "ZA",
}
_AMERICAN = re.compile(
    r"\([2-9]\d{2}\) ?\d{3}-\d{4}|\b[2-9]\d{2}[ .-]\d{3}[ .-]\d{4}\b|\b[A-Z]{2} \d{5}(?:-\d{4})?\b|(?m:^)(?:sales )?tax\b(?! (?:point|id|inv))",
    re.IGNORECASE,
).search
_OTHER_TAX = re.compile(r"\b(?:VAT|GST|HST|MwSt|TVA|IVA|BTW|USt)\b|[£€]").search
_OF_LANGUAGE = {"de": "DE", "fr": "FR", "es": "ES", "it": "IT", "nl": "NL", "pt": "PT", "da": "DK", "sv": "SE", "pl": "PL", "cs": "CZ", "en": "GB"}
_HAS_MONTH = re.compile(_MONTH).search
SHORTEST_DATE, LONGEST_DATE = 6, 5  # characters, words
OPENING = 2  # letters by which the beginnings of segments are sorted, and fewest of a label
LONGEST_NUMBER = 4  # words: "1 234 567,89"


T = TypeVar("T")


class Place(msgspec.Struct, frozen=True, gc=False):
    """Some words of one page; `exact` when they are the value and nothing else."""

    page: int
    words: tuple[int, ...]
    exact: bool = True


@lru_cache(maxsize=8192)
def squeezed(text: str) -> str:
    """Letters and digits only, folded: the form in which texts are searched."""
    return "".join(c for c in fold(text) if c.isalnum())


class Squeezed:
    """Words run together, with the way back from a place in the text to its words."""

    def __init__(self, page: int, numbers: list[int], texts: list[str]) -> None:
        self.page = page
        parts = list(map(squeezed, texts))
        self._numbers = [number for number, part in zip(numbers, parts, strict=True) if part]
        self.text = "".join(parts)
        self.starts = list(accumulate(map(len, parts), initial=0))  # where each word begins, and where the last ends
        self._starts = [at for at, part in zip(self.starts, parts, strict=False) if part]
        self._begins = set(self._starts)
        self._ends = set(self.starts[1:])

    def begins(self, wanted: str, at: int) -> bool:
        """Whether the squeezed text stands there, up to the end of a word."""
        return self.text.startswith(wanted, at) and at + len(wanted) in self._ends

    def find(self, wanted: str) -> Iterator[Place]:
        """Every place where the squeezed text stands; inexact when it starts or ends within a word."""
        if not wanted:
            return
        at = self.text.find(wanted)
        while at >= 0:
            end = at + len(wanted)
            exact = at in self._begins and end in self._ends
            if exact or len(wanted) >= 5:
                first, last = bisect_right(self._starts, at) - 1, bisect_right(self._starts, end - 1) - 1
                yield Place(self.page, tuple(self._numbers[first : last + 1]), exact)
            at = self.text.find(wanted, at + 1)


class Index:
    """What grounding and the pattern reader ask of a document."""

    def __init__(self, document: Document) -> None:
        self.document = document
        self.pages = {page.number: page for page in document.pages}
        self._once: dict[str, Any] = {}
        self._named: dict[str, bool] = {}
        self._outside: dict[tuple[int, ...], Outside] = {}
        self._rows: dict[int, RowIndex] = {}  # by identity: rows belong to the document, which is kept

    @cached_property
    def mark(self) -> str | None:
        """The decimal mark of the document."""
        return decimal_mark(segment.text for _, segment in self.figured)

    @cached_property
    def currency(self) -> str | None:
        """The currency code named most often, by code before sign."""
        counts: dict[str, int] = {}
        for page in self.document.pages:
            for word in page.words:
                code = _currency_named(word.text)
                if code:
                    counts[code] = counts.get(code, 0) + 1
        return max(counts, key=lambda code: counts[code]) if counts else None

    @cached_property
    def day_first(self) -> bool | None:
        """Whether dates in figures print the day first: by other dates, else by the currency."""
        texts = (segment.text for _, segment in self.figured)
        by_currency = None if self.currency in (None, "USD", "CAD") else True
        if by_currency is None and self.language not in (None, "en"):
            by_currency = True  # only papers in English print the month first
        by_currency = False if self.country == "US" else by_currency
        return day_first(texts, by_currency)

    @cached_property
    def country(self) -> str | None:
        """The country that the document is from (ISO 3166): by its VAT numbers and IBANs, else by a currency that only one country has."""
        counts: dict[str, int] = {}
        for _, segment in self.figured:
            for match in _COUNTRY_CODE(segment.text):
                counts[match.group(1)] = counts.get(match.group(1), 0) + 1
        if counts:
            return max(counts, key=lambda code: counts[code])
        known = _ONE_COUNTRY.get(self.currency or "")
        return known or ("US" if self.currency is None and self._american else None)

    @cached_property
    def _american(self) -> bool:
        """Whether a document is from the United States by its telephone numbers, its ZIP codes or its sales tax."""
        return not _OTHER_TAX(self._text) and bool(_AMERICAN(self._text))

    @cached_property
    def _text(self) -> str:
        return "\n".join(line.text for page in self.document.pages for line in page.lines)

    @cached_property
    def language(self) -> str | None:
        """The language (ISO 639-1) that the document is in: by its own word, else by its small words."""
        told = next((f.value[:2].lower() for f in self.document.facts if f.path.endswith(("/lang", "/language", "/langue"))), None)
        return told or language_of(" ".join(word.text for word in page.words) for page in self.document.pages)

    @cached_property
    def phone_country(self) -> str | None:
        """The country whose numbering plan reads telephone numbers without a code: the document's, else that of its language."""
        if self.country is None and self.language == "en" and self._american:
            return "US"
        return self.country or named_country(self._text, self.language) or _OF_LANGUAGE.get(self.language or "")

    @cached_property
    def texts(self) -> list[Squeezed]:
        """The words of each page run together."""
        return [Squeezed(p.number, list(range(len(p.words))), [w.text for w in p.words]) for p in self.document.pages]

    def outside(self, tables: tuple[Table, ...]) -> Outside:
        """Figures and dates outside some tables, whose cells are taken as they stand; worked out once for the same tables."""
        key = tuple(map(id, tables))  # tables belong to the document, which is kept
        found = self._outside.get(key)
        if found is None:
            found = self._outside[key] = Outside(self, tables)
        return found

    @cached_property
    def numbers(self) -> dict[Decimal, list[Place]]:
        """Every amount that stands in the document, with its places."""
        found: dict[Decimal, list[Place]] = {}
        for here in self.numbers_at.values():
            for place, value in here:
                found.setdefault(value, []).append(place)
        return found

    @cached_property
    def numbers_at(self) -> dict[tuple[int, int], list[tuple[Place, Decimal]]]:
        """The same by page and the word with which they begin."""
        found: dict[tuple[int, int], list[tuple[Place, Decimal]]] = {}
        for page, segment in self.figured:
            for place, value in self.numbers_in(page, segment.first, segment.last):
                found.setdefault((page.number, place.words[0]), []).append((place, value))
        return found

    @cached_property
    def figured(self) -> list[tuple[Page, Segment]]:
        """The segments that hold a figure: where amounts and dates can stand."""
        return [(page, s) for page in self.document.pages for line in page.lines for s in line.segments if not s.text.isalpha() and _DIGIT(s.text)]

    def numbers_in(self, page: Page, first: int, last: int) -> Iterator[tuple[Place, Decimal]]:
        """The amounts that stand in the words from `first` up to `last` of a page, with their places."""
        for start in range(first, last):
            text = page.words[start].text
            if len(text) > 3 and not has_digit(text):
                continue
            for end in range(start + 1, min(start + LONGEST_NUMBER, last) + 1):
                if end > start + 1:
                    text = f"{text} {page.words[end - 1].text}"
                value = parse_number(text, self.mark)
                if value is not None:
                    yield Place(page.number, tuple(range(start, end))), value
                elif end == start + 1:
                    for inner, whole in _inner_numbers(text, self.mark):
                        yield Place(page.number, (start,), whole), inner

    @cached_property
    def dates(self) -> dict[date, list[Place]]:
        """Every date that stands in the document, in all its readings, with its places."""
        return self.dates_in(self.figured)

    def dates_in(self, segments: Sequence[tuple[Page, Segment]]) -> dict[date, list[Place]]:
        """The dates that stand in some segments, in all their readings, with their places."""
        found: dict[date, list[Place]] = {}
        for page, segment in segments:
            text = segment.text
            if len(text) < SHORTEST_DATE or not (_MAY_BE_DATE(text) or _month_and_figure(text.lower())):
                continue
            figures = [bool(has_digit(page.words[n].text)) for n in range(segment.first, segment.last)]
            for start in range(segment.first, segment.last):
                if not any(figures[start - segment.first : start - segment.first + 3]):
                    continue  # a date has figures among its first three words
                for end in range(start + 1, min(start + LONGEST_DATE, segment.last) + 1):
                    readings = date_readings(" ".join(page.words[n].text for n in range(start, end)))
                    for reading in readings:
                        sure = len(readings) == 1 or self.day_first is not None
                        found.setdefault(reading, []).append(Place(page.number, tuple(range(start, end)), sure))
        return found

    def find_text(self, text: str) -> list[Place]:
        """Every place where a text stands, whatever its case, accents, spaces and punctuation."""
        wanted = squeezed(text)
        return [place for page in self.texts if wanted in page.text for place in page.find(wanted)]

    def names(self, label: str) -> bool:
        """Whether a label stands at the start of a piece of print; what was asked before is known."""
        found = self._named.get(label)
        if found is None:
            wanted = squeezed(label)
            found = self._named[label] = any(text.begins(wanted, at) for text, at in self._openings.get(wanted[:OPENING], ()))
        return found

    @cached_property
    def _openings(self) -> dict[str, list[tuple[Squeezed, int]]]:
        """Where the segments begin, by the first letters that stand there."""
        found: dict[str, list[tuple[Squeezed, int]]] = {}
        for page, text in zip(self.document.pages, self.texts, strict=True):
            for at in {text.starts[segment.first] for line in page.lines for segment in line.segments}:
                found.setdefault(text.text[at : at + OPENING], []).append((text, at))
        return found

    def row(self, cells: tuple[Cell, ...]) -> RowIndex:
        """A row of a table, indexed once."""
        found = self._rows.get(id(cells))
        if found is None:
            found = self._rows[id(cells)] = RowIndex(self, cells)
        return found

    def once(self, name: str, made: Callable[[Index], T]) -> T:
        """What a function makes of the document, worked out once."""
        if name not in self._once:
            self._once[name] = made(self)
        found: T = self._once[name]
        return found

    def quote(self, place: Place) -> str:
        """The words at a place."""
        words = self.pages[place.page].words
        return " ".join(words[n].text for n in place.words)


class Outside:
    """Where figures and dates stand outside some tables; everywhere, for what stands only in them. Changes nothing of the index."""

    def __init__(self, index: Index, tables: Sequence[Table]) -> None:
        self._index = index
        self._inside = {(cell.page, number) for table in tables for row in table.rows for cell in row for number in cell.words}

    def find_number(self, value: Decimal) -> list[Place]:
        """Where an amount stands."""
        return self._numbers.get(value) or self._index.numbers.get(value, [])

    def find_date(self, day: date) -> list[Place]:
        """Where a date stands."""
        return self._dates.get(day) or self._index.dates.get(day, [])

    @cached_property
    def _segments(self) -> list[tuple[Page, Segment]]:
        figured = self._index.figured
        return [(page, s) for page, s in figured if (page.number, s.first) not in self._inside] if self._inside else figured

    @cached_property
    def _numbers(self) -> dict[Decimal, list[Place]]:
        found: dict[Decimal, list[Place]] = {}
        for page, segment in self._segments:
            for place, value in self._index.numbers_in(page, segment.first, segment.last):
                found.setdefault(value, []).append(place)
        return found

    @cached_property
    def _dates(self) -> dict[date, list[Place]]:
        return self._index.dates_in(self._segments)


class RowIndex:
    """The cells of one table row, indexed by what they are: a number, a text. Cells may be wrapped over lines."""

    def __init__(self, index: Index, cells: Sequence[Cell]) -> None:
        self.numbers: dict[Decimal, list[Place]] = {}
        self.texts: dict[str, Place] = {}
        self._index = index
        self._cells = [cell for cell in cells if cell.words]
        for cell in self._cells:
            text = squeezed(cell.text)
            if text:
                self.texts.setdefault(text, Place(cell.page, cell.words))
            if has_digit(cell.text):
                for number in cell.words:
                    for place, value in index.numbers_at.get((cell.page, number), ()):
                        if len(place.words) == 1 or set(place.words) <= set(cell.words):
                            self.numbers.setdefault(value, []).append(place)

    def holds(self, form: object) -> bool:
        """Whether a cell is just this number or this squeezed text."""
        return form in self.texts or form in self.numbers

    def find(self, wanted: str) -> list[Place]:
        """The places of a squeezed text: a whole cell, else a part of one."""
        whole = self.texts.get(wanted)
        if whole is not None:
            return [whole]
        found: list[Place] = []
        for cell in self._cells:
            if wanted and wanted in squeezed(cell.text):
                words = self._index.pages[cell.page].words
                found += Squeezed(cell.page, list(cell.words), [words[n].text for n in cell.words]).find(wanted)
        return found


@lru_cache(maxsize=8192)
def _currency_named(text: str) -> str | None:
    """The currency that a word names by its sign or code; a code may be followed by figures, not by letters."""
    named = not _SIGN.isdisjoint(text) or text[:3].upper() in _CODES or text.upper().strip(".,:()") in _CODES
    return currency_in(text) if named else None


def _month_and_figure(lowered: str) -> bool:
    text = lowered if lowered.isascii() else plain(lowered)
    return _HAS_MONTH(text) is not None and _MONTH_AND_FIGURE(text) is not None


def _inner_numbers(text: str, mark: str | None) -> Iterator[tuple[Decimal, bool]]:
    """The numbers within a word, and whether nothing but marks stands about them: both of "6×7.00", the one of "x3", "20%:" or "12pcs"."""
    parts = [part for part in _TIMES.split(text) if part]
    numbers = [parse_number(part.strip(_MARKS), mark) for part in parts] if len(parts) <= 2 else []
    if numbers and None not in numbers:
        yield from ((number, True) for number in numbers if number is not None)
    elif (inner := _inner_number(text, mark)) is not None:
        yield inner, False


_TIMES = re.compile(r"[x×*@]", re.IGNORECASE)
_MARKS = ":;.,()[]+~≈<>"


def _inner_number(text: str, mark: str | None) -> Decimal | None:
    """The number in "12pcs" or "20%:", when there is just one."""
    stripped = text.strip("xX×*@" + _MARKS)
    body = stripped.rstrip("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ")
    return parse_number(body, mark) if body and body != text and len(stripped) - len(body) <= 4 else None
