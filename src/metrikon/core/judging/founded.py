"""Whether a text that a model wrote says nothing but what its sources hold: every figure, date, name and address is looked up."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from decimal import Decimal

from metrikon.core.extraction.indexing.index import Index, squeezed
from metrikon.core.values.dates import date_readings
from metrikon.core.values.numbers import numbers_in, parse_number
from metrikon.core.values.text import fold

_ADDRESS = re.compile(r"[\w.+-]+@[\w-]+\.[\w.-]*\w|https?://\S+|www\.\S+")
_DATE = re.compile(
    r"\d{4}-\d{2}-\d{2}|\d{1,2}(?:st|nd|rd|th|\.)?\s+[^\W\d]{3,12}\.?,?\s+\d{4}|[^\W\d]{3,12}\.?\s+\d{1,2}(?:st|nd|rd|th)?,?\s+\d{4}|\d{1,2}[./]\d{1,2}[./]\d{2,4}"
)
_NUMBER = re.compile(r"[-+−]?\d+(?:[.,'’\u00a0\u202f]\d+)*")
_NUMBERING = re.compile(r"^\s*\d{1,2}[.)]\s", re.MULTILINE)
_NAME = re.compile(r"[A-ZÀ-Þ][\w'’-]*(?:[ \u00a0]+(?:(?:de|da|di|du|van|von|der|den|la|le|of|and|&)[ \u00a0]+)?[A-ZÀ-Þ][\w'’-]*)*")
_BEGINS = re.compile(r"(?:^|[.!?:;\n\"“”(—–-])\s*$")
_WORDS = frozenset(
    [
        "i",
        "dear",
        "sir",
        "madam",
        "mr",
        "mrs",
        "ms",
        "dr",
        "kind",
        "best",
        "warm",
        "regards",
        "sincerely",
        "yours",
        "faithfully",
        "hello",
        "good",
        "morning",
        "afternoon",
        "evening",
        "thank",
        "thanks",
        "please",
        "subject",
        "re",
        "ps",
        "january",
        "february",
        "march",
        "april",
        "may",
        "june",
        "july",
        "august",
        "september",
        "october",
        "november",
        "december",
        "jan",
        "feb",
        "mar",
        "apr",
        "jun",
        "jul",
        "aug",
        "sep",
        "sept",
        "oct",
        "nov",
        "dec",
        "monday",
        "tuesday",
        "wednesday",
        "thursday",
        "friday",
        "saturday",
        "sunday",
        "english",
        "german",
        "french",
        "herr",
        "frau",
        "sehr",
        "geehrte",
        "geehrter",
        "mit",
        "freundlichen",
        "grussen",
        "januar",
        "februar",
        "marz",
        "mai",
        "juni",
        "juli",
        "oktober",
        "dezember",
        "montag",
        "dienstag",
        "mittwoch",
        "donnerstag",
        "freitag",
        "samstag",
        "sonntag",
    ]
)
NOUNS = ("de", "german", "deutsch")  # languages that write every noun with a capital


@dataclass(frozen=True)
class Sources:
    """What a text may rest on: the document, figures that were worked out, each under its name, and words that were given besides."""

    index: Index
    figures: Sequence[tuple[str, str]] = ()
    given: str = ""
    nouns: bool = False  # whether every noun has a capital, so that one alone tells no name
    _values: dict[Decimal, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for name, text in self.figures:
            value = parse_number(text)
            if value is not None:
                self._values.setdefault(abs(value), name)
        for text in numbers_in(self.given):
            value = parse_number(text)
            if value is not None:
                self._values.setdefault(abs(value), "what was given")

    def figure(self, word: str) -> bool:
        """Whether a number stands in the sources, however it is written."""
        values = {value for mark in (None, ".", ",") if (value := parse_number(word.replace("−", "-"), mark)) is not None}
        if any(
            abs(value) in self._values or value in self.index.numbers or abs(value) in self.index.numbers or -value in self.index.numbers
            for value in values
        ):
            return True
        return word.isdecimal() and word in self.index.once("groups of digits", _groups)

    def day(self, text: str) -> bool:
        """Whether a date stands in the sources, however it is written."""
        readings = set(date_readings(text))
        given = {day for match in _DATE.finditer(self.given) for day in date_readings(match.group())}
        return bool(readings & (given | set(self.index.dates)))

    def words(self, text: str) -> bool:
        """Whether a name or address stands in the sources, its words near each other or one by one."""
        if self.holds(text):
            return True
        return all(self.holds(word) or fold(word) in _WORDS for word in re.split(r"[\s\u00a0]+", text) if word[:1].isupper())

    def holds(self, text: str) -> bool:
        """Whether these very words stand in the sources, whatever their case and marks."""
        wanted = squeezed(text.removesuffix("'s").removesuffix("’s"))
        if not wanted:
            return True
        besides = squeezed(f"{self.given} {' '.join(name for name, _ in self.figures)}")
        return wanted in besides or bool(self.index.find_text(text.removesuffix("'s").removesuffix("’s")))


def _groups(index: Index) -> set[str]:
    return {digits for page in index.document.pages for word in page.words for digits in re.findall(r"\d+", word.text)}


def unfounded(text: str, sources: Sources) -> list[str]:
    """The words of a text that are in none of its sources, in its order, each once."""
    found: dict[str, int] = {}
    rest = text
    for pattern, stands in ((_ADDRESS, sources.holds), (_DATE, sources.day)):
        for match in pattern.finditer(rest):
            if pattern is _DATE and not date_readings(match.group()):
                continue
            if not stands(match.group().rstrip(".,;")):
                found.setdefault(match.group().rstrip(".,;"), match.start())
            rest = rest[: match.start()] + " " * len(match.group()) + rest[match.end() :]
    numbered = {match.start() for match in _NUMBERING.finditer(rest)}
    for match in _NUMBER.finditer(rest):
        line = rest.rfind("\n", 0, match.start()) + 1
        if not (line in numbered and not rest[line : match.start()].strip()) and not sources.figure(match.group()):
            found.setdefault(match.group(), match.start())
    for name, at in _names(rest, nouns=sources.nouns):
        if not sources.words(name):
            found.setdefault(name, at)
    return sorted(found, key=lambda each: found[each])


def _names(text: str, *, nouns: bool) -> Iterator[tuple[str, int]]:
    """Words with a capital that are likely to name somebody or something: within a sentence, or several together."""
    for match in _NAME.finditer(text):
        words, at = match.group().split(), match.start()
        while words and (fold(words[0]) in _WORDS or (_BEGINS.search(text[:at]) and len(words) == 1)):
            at += len(words[0]) + 1
            words = words[1:]
        if nouns and len(words) > 1 and at == match.start() and _BEGINS.search(text[:at]):
            at += len(words[0]) + 1
            words = words[1:]
        if not words or (nouns and len(words) == 1):
            continue
        yield " ".join(words), at
