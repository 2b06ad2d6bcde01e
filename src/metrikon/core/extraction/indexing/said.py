"""What a document says in other forms than its values have: numbers, days and times in words, days without a year, figures read out.

The tokens of each page stand in one run, parted where speakers change and where print stands apart. It is used to see whether a
value that somebody gave is said, so it errs on the side of hearing; how sure each is stands with it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import date
from decimal import Decimal
from functools import cached_property

import msgspec

from metrikon.core.documents.model import Page
from metrikon.core.extraction.indexing.index import Index, Place
from metrikon.core.extraction.indexing.said_when import (
    BREAK,
    BY_NUMBER,
    HOURS,
    NOON,
    clock_times,
    date_in,
    halves_of_day,
    months_in,
    named_day,
    relative_days,
)
from metrikon.core.values.dates import MONTHS
from metrikon.core.values.number_words import Group, groups, plain, tokens

HEAD = 6  # lines at the head of a document that may say of what day it is
NEAR_YEARS = 800  # days from the document's own within which a month named without its year lies
MOST_TOKENS = 60_000  # of a document; what stands after is not heard
_MONEY = {"euro", "euros", "eur", "dollar", "dollars", "pound", "pounds", "franken", "francs", "francos", "franchi", "kronor", "kroner", "zloty", "zl", "€", "$", "£"}  # fmt: skip
_DOUBLE = {"double", "doppel", "doppelt", "dubbel", "doble", "doppia", "doppio", "duplo", "dobbelt", "podwojne"}
_POINT = {"point", "komma", "virgule", "coma", "virgola", "virgula", "przecinek", "comma", ",", "."}
_AND = {"and", "und", "et", "y", "e", "en", "og", "och", "i"}
_WITH = _AND | {"con", "com"}  # between coins and their hundredths: "nueve euros con cincuenta"


class Heard(msgspec.Struct, frozen=True, gc=False):
    """Something said: where, and how sure it is that it is meant (0 to 1)."""

    place: Place
    sure: float


class Aloud(msgspec.Struct, frozen=True):
    """Tokens [first, last) of a run, what they are and how that is written. `beside`: it is written after the words, not in their place."""

    kind: str  # phone, mail, date, time, amount, number
    run: int
    first: int
    last: int
    written: str
    beside: bool = False


class Said:
    """The tokens of a document and what they come to."""

    def __init__(self, index: Index) -> None:
        self.index = index
        self.runs: list[tuple[int, list[str], list[int]]] = []  # page, tokens, word of each
        count = 0
        for page in index.document.pages:
            words, places = _run(page, index)
            count += len(words)
            if count > MOST_TOKENS:
                break
            self.runs.append((page.number, words, places))

    @cached_property
    def groups(self) -> list[tuple[int, list[Group]]]:
        """The numbers of each run, in words and figures."""
        return [(number, groups(words, self.index.language)) for number, (_, words, _) in enumerate(self.runs)]

    def place(self, run: int, first: int, last: int) -> Place:
        """The words that tokens [first, last) of a run stand on."""
        page, _, places = self.runs[run]
        return Place(page, tuple(dict.fromkeys(places[at] for at in range(first, last) if places[at] >= 0)))

    @cached_property
    def numbers(self) -> dict[Decimal, list[Heard]]:
        """Numbers in words, prices read out in two halves, hours and minutes taken together."""
        found: dict[Decimal, list[Heard]] = {}
        for value, heard in self.halves:
            found.setdefault(value, []).append(heard)
        for run, here in self.groups:
            words = self.runs[run][1]
            for at, one in enumerate(here):
                spelled = not words[one.first].isdecimal() and not _of_a_name(words, one)
                half = half_more(words, one)
                if half:
                    self._hear(found, one.value + Decimal("0.5"), run, one.first, one.last + half, 0.85)
                if spelled:
                    self._hear(found, Decimal(one.value), run, one.first, one.last, 0.9)
                if at + 1 < len(here):
                    for value, sure in _together(one, here[at + 1], words):
                        self._hear(found, value, run, one.first, here[at + 1].last, sure)
        return found

    @cached_property
    def halves(self) -> list[tuple[Decimal, Heard]]:
        """Numbers with a half that are one word, or a half alone: "anderthalb", "half an hour"."""
        found = []
        for run, (_, words, _) in enumerate(self.runs):
            for at, word in enumerate(words):
                value = _WITH_HALF.get(plain(word)) or _TIMES_OVER.get(plain(word))
                if value == Decimal("0.5") and any(plain(each) in _DOZEN for each in words[at + 1 : at + 3]):
                    value = Decimal(6)
                if value is not None and (place := self.place(run, at, at + 1)).words:
                    found.append((value, Heard(place, 0.7)))
        return found

    def _hear(self, found: dict[Decimal, list[Heard]], value: Decimal, run: int, first: int, last: int, sure: float) -> None:
        place = self.place(run, first, last)
        if place.words:
            found.setdefault(value, []).append(Heard(place, sure))

    @cached_property
    def figures(self) -> list[tuple[int, str, list[tuple[int, int]]]]:
        """For each run the figures of its numbers one after the other, read out or printed; which tokens each figure comes from. Parted by blanks."""
        found = []
        for run, here in self.groups:
            words = self.runs[run][1]
            text = ""
            source: list[tuple[int, int]] = []
            last = 0
            for one in here:
                if any(w not in "()+-/.,·" and plain(w) not in _AND for w in words[last : one.first]) and text:
                    text, source = text + " ", [*source, (one.first, one.last)]
                text += one.figures
                source += [(one.first, one.last)] * len(one.figures)
                last = one.last
            found.append((run, text, source))
        return found

    def find_figures(self, wanted: str, begins: bool = False) -> list[Place]:
        """Where figures stand one after the other, whatever parts them. `begins`: no other figure may stand right before them."""
        found = []
        for run, text, source in self.figures:
            at = text.find(wanted)
            while at >= 0:
                if not begins or at == 0 or text[at - 1] == " " or source[at - 1] != source[at]:
                    found.append(self.place(run, source[at][0], source[at + len(wanted) - 1][1]))
                at = text.find(wanted, at + 1)
        return [place for place in found if place.words]

    @cached_property
    def own_date(self) -> date | None:
        """The date that the document says it is of in its data: of a call, a mail, a page."""
        for fact in self.index.document.facts:
            found = date_in(fact.value) if fact.source in ("header", "json", "meta", "json-ld", "file") else None
            if found is not None:
                return found
        return min(self._before_the_talk, default=None) or self._at_its_head

    @property
    def _at_its_head(self) -> date | None:
        """The only day that the first lines of a document without data of its own name."""
        if self.index.document.sentences or not self.index.document.pages:
            return None
        page = self.index.document.pages[0]
        last = page.lines[:HEAD][-1].last if page.lines else 0
        days = {day for day, places in self.index.dates.items() if len(places) and any(p.page == page.number and p.words[-1] < last for p in places)}
        return days.pop() if len(days) == 1 else None

    @property
    def _before_the_talk(self) -> Iterator[date]:
        """Dates in the lines before the first that is said."""
        said = self.index.document.sentences
        first = (said[0].page, said[0].words[0]) if said and said[0].words else (0, 0)
        return (day for day, places in self.index.dates.items() for place in places if (place.page, place.words[-1]) < first)

    @cached_property
    def bases(self) -> list[date]:
        """Dates from which a day without a year is counted: the document's own, else all that stand in it."""
        return [self.own_date] if self.own_date else sorted(self.index.dates)[:40]

    def day(self, wanted: date) -> list[Heard]:
        """Where a day is meant that is said without its year, by its number and weekday, or from the document's own date."""
        near = [base for base in self.bases if -200 <= (wanted - base).days <= 400]
        if self.bases and not near and not self.index.find_text(str(wanted.year)):
            return []
        found = []
        for run, here in self.groups:
            words = self.runs[run][1]
            for one in here:
                if one.value == wanted.day and len(one.figures) <= 2 and (sure := named_day(words, one, wanted)) and self._ahead(wanted, sure):
                    found.append(Heard(self.place(run, max(0, one.first - 1), min(len(words), one.last + 1)), sure))
            found += [Heard(self.place(run, at, at + 1), sure) for at, sure in relative_days(words, wanted, self.own_date)]
        found += self._in_figures(wanted)
        return [each for each in found if each.place.words]

    def _ahead(self, wanted: date, sure: float) -> bool:
        """Whether a day that is told by its number alone is the next of that number."""
        return sure > BY_NUMBER or self.own_date is None or 0 <= (wanted - self.own_date).days <= 31

    def _in_figures(self, wanted: date) -> Iterator[Heard]:
        """Days as "26.10." or "16/01"."""
        for page, segment in self.index.figured:
            for at in range(segment.first, segment.last):
                match = re.fullmatch(r"\(?(\d{1,2})[./-](\d{1,2})[.]?[),;:]?", page.words[at].text)
                if match and {int(match[1]), int(match[2])} == {wanted.day, wanted.month}:
                    yield Heard(Place(page.number, (at,)), 0.85)

    @cached_property
    def months(self) -> dict[str, list[Place]]:
        """Months with their year, as YYYY-MM."""
        found: dict[str, list[Place]] = {}
        for run, (_, words, _) in enumerate(self.runs):
            for year, month, first, last in months_in(words):
                found.setdefault(f"{year}-{month:02}", []).append(self.place(run, first, last))
        for day, places in self.index.dates.items():
            found.setdefault(f"{day.year}-{day.month:02}", []).extend(places)
        for page in self.index.document.pages:
            for at, printed in enumerate(page.words):
                if match := re.fullmatch(r"\(?((?:19|20)\d\d)-(0[1-9]|1[0-2])[),.;]?", printed.text):
                    found.setdefault(f"{match[1]}-{match[2]}", []).append(Place(page.number, (at,)))
        return found

    def month(self, year: int, month: int) -> list[Place]:
        """Where a month stands, with its year or, in a range with one, without."""
        known = self.months.get(f"{year}-{month:02}")
        if known:
            return known
        years = {str(year)}
        found = []
        for run, (_, words, _) in enumerate(self.runs):
            for at, word in enumerate(words):
                if MONTHS.get(plain(word).rstrip(".")) == month and years & set(words[at + 1 : at + 8]):
                    found.append(self.place(run, at, at + 1))
        if not found and self.own_date and abs((date(year, month, 1) - self.own_date).days) < NEAR_YEARS:
            found = [
                self.place(run, at, at + 1)
                for run, (_, words, _) in enumerate(self.runs)
                for at, word in enumerate(words)
                if len(word) > 3 and MONTHS.get(plain(word)) == month
            ]
        return found

    @cached_property
    def times(self) -> dict[int, list[Heard]]:
        """Times of day in minutes; whether before or after noon is open where nothing says it."""
        found: dict[int, list[Heard]] = {}

        def hear(minutes: int, run: int, first: int, last: int, sure: float, halves: tuple[int, ...]) -> None:
            place = self.place(run, first, last)
            for more in halves:
                if place.words and 0 <= minutes + more < 24 * 60:
                    found.setdefault(minutes + more, []).append(Heard(place, sure))

        for run, here in self.groups:
            words = self.runs[run][1]
            for at, one in enumerate(here):
                for minutes, last, sure in clock_times(words, here, at):
                    hear(minutes, run, one.first, last, sure, halves_of_day(words, last, minutes))
            for at, word in enumerate(words):
                if plain(word) in NOON or (plain(word) == "meio" and words[at + 1 : at + 2] == ["dia"]):
                    hear(720, run, at, at + 1, 0.7, (0,))
                elif (match := re.fullmatch(r"(\d{1,2})(am|pm|h|u)(\d\d)?", word.lower())) and int(match[1]) < 25:
                    hour = int(match[1]) % 12 + 12 * (match[2] == "pm") if match[2] in ("am", "pm") else int(match[1])
                    hear(hour * 60 + int(match[3] or 0), run, at, at + 1, 0.95, (0,))
        return found


def _run(page: Page, index: Index) -> tuple[list[str], list[int]]:
    """The tokens of a page with the word of each; clocks and names before what is said are left out, a break stands where another speaks."""
    breaks: set[int] = set()
    unsaid: set[int] = set()
    speaker = None
    for sentence in index.document.sentences:
        if sentence.page == page.number and sentence.words:
            unsaid.update(sentence.words[: max(0, len(sentence.words) - len(sentence.text.split()))])
            if sentence.speaker != speaker or not speaker:
                breaks.add(sentence.words[0])
            speaker = sentence.speaker
    words: list[str] = []
    places: list[int] = []
    for line in page.lines:
        for number, segment in enumerate(line.segments):
            for at in range(segment.first, segment.last):
                if (number and at == segment.first) or at in breaks:
                    words.append(BREAK)
                    places.append(-1)
                if at in unsaid:
                    continue
                here = tokens(page.words[at].text)
                words += here
                places += [at] * len(here)
    for at, word in enumerate(words[:-1]):
        if word.lower() in _DOUBLE:
            words[at] = words[at + 1]
    return words, places


_WITH_HALF = {
    **dict.fromkeys(("anderthalb", "eineinhalb", "einundhalb", "anderhalf", "anderhalve", "halvanden", "poltora", "poltorej", "poldruhe"), Decimal("1.5")),
    **dict.fromkeys(("zweieinhalb", "tweeenhalf"), Decimal("2.5")),
    **dict.fromkeys(("half", "halbe", "halben", "demi", "demie", "media", "mezza", "mezzora", "halve", "meia", "halv"), Decimal("0.5")),
}  # fmt: skip
_TIMES_OVER = {
    **dict.fromkeys(("twice", "zweimal", "tweemaal", "dvakrat", "dwukrotnie"), Decimal(2)),
    **dict.fromkeys(("thrice", "dreimal", "driemaal", "trikrat", "trzykrotnie"), Decimal(3)),
}
_DOZEN = {"dozen", "dutzend", "douzaine", "docena", "dozzina", "dozijn", "duzia", "dusin", "dussin", "tuzina"}
OF_TIME = frozenset(["day", "days", "tag", "tage", "tagen", "jour", "jours", "dia", "dias", "giorno", "giorni", "dag", "dagen", "dage", "dagar", "week", "weeks", "woche", "wochen", "semaine", "semaines", "semana", "semanas", "settimana", "settimane", "weken", "year", "years", "jahr", "jahre", "an", "ans", "ano", "anos", "anno", "anni", "jaar", "ar", "month", "months", "monat", "monate", "mois", "mes", "meses", "mese", "mesi", "maand", "maanden"])  # fmt: skip
_HALVES = {"half", "halb", "halbe", "demi", "demie", "media", "medio", "mezzo", "mezza", "halve", "meia", "meio", "halv"}


def _of_a_name(words: list[str], one: Group) -> bool:
    """Whether a number in words is a part of a name: it and what follows have capitals within a sentence, as in "Centre des Trois Vallons"."""
    before = words[one.first - 1] if one.first else BREAK
    after = words[one.last] if one.last < len(words) else ""
    return before[:1].isalpha() and words[one.first][:1].isupper() and after[:1].isupper()


def half_more(words: list[str], one: Group) -> int:
    """How many tokens after a number say that a half comes to it: "two and a half", "deux heures et demie"; 0 for none."""
    for reach in (2, 3, 4):
        after = [plain(word) for word in words[one.last : one.last + reach]]
        if (
            len(after) == reach
            and after[-1] in _HALVES
            and any(word in _AND for word in after[:-1])
            and all(word in _AND or word in HOURS or word in OF_TIME or word in ("a", "une", "una") for word in after[:-1])
        ):
            return reach
    return 0


def _together(one: Group, two: Group, words: list[str]) -> Iterator[tuple[Decimal, float]]:
    """What two numbers said one after the other may come to: "two ninety-eight", "seven euros fifty", "four hours 34 min"."""
    between = [plain(word) for word in words[one.last : two.first]]
    spelled = not (words[one.first].isdecimal() and words[two.first].isdecimal())
    if spelled and not between and 0 < one.value < 100 and 10 <= two.value < 100:
        yield Decimal(one.value * 100 + two.value), 0.85
    of_coins = not between or (between[0] in _MONEY and all(word in _WITH for word in between[1:]))
    if len(between) <= 2 and of_coins and two.value < 100 and (spelled or between):
        yield one.value + Decimal(two.value) / 100, 0.85
    if len(between) == 1 and between[0] in _POINT and spelled:
        yield Decimal(f"{one.value}.{two.figures}"), 0.9
