"""What is read out in a talk, and how it is written: telephone numbers, addresses, days, times, prices and numbers in words.

A model is shown these in figures, so that it need not understand "zero six, thirty-nine" or reckon when "Friday the twenty-third" is.
Where it is open what is meant, the words stay as they were said.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal
from itertools import pairwise

from metrikon.core.extraction.index import Index
from metrikon.core.extraction.said import Said
from metrikon.core.extraction.said_when import BREAK, HALF, HOURS, PAST, QUARTER, TO, WEEKDAY, clock_times, halves_of_day, next_day
from metrikon.core.values.dates import MONTHS
from metrikon.core.values.number_words import MARKS, Group, is_ordinal, plain
from metrikon.core.values.phones import parse_phone
from metrikon.core.values.web import parse_mail

MONEY = frozenset(
    [
        "euro",
        "euros",
        "eur",
        "dollar",
        "dollars",
        "pound",
        "pounds",
        "franken",
        "francs",
        "francos",
        "franchi",
        "kronor",
        "kroner",
        "kr",
        "zloty",
        "zlotych",
        "€",
        "$",
        "£",
    ]
)
_PRICED = MONEY | frozenset(
    [
        "each",
        "per",
        "apiece",
        "kost",
        "kosten",
        "costs",
        "price",
        "stuk",
        "stück",
        "stueck",
        "pro",
        "je",
        "pièce",
        "piece",
        "chacun",
        "chacune",
        "prix",
        "cada",
        "uno",
        "precio",
        "cadauno",
        "prezzo",
    ]
)
_NO_NUMBERS = {
    "fr": {"neuf", "un", "une"},
    "it": {"sei", "uno", "una", "un"},
    "pt": {"meia", "um", "uma"},
    "en": {"o", "oh", "one", "second", "grand"},
}
AROUND_PAIR = 4  # tokens around two numbers that say whether they are a price or a time
TOGETHER = 20  # tokens after a day within which a time is said of it
AFTER_DAY = 8  # tokens after a day within which its time is said
YEAR_BEGINS = range(17, 21)  # "nineteen ninety-eight"
LEAST_PHONE, MOST_PHONE = 9, 14
LEAST_DAY = 4  # the first, second and third of something are seldom days
TILL = 45  # days ahead in which a weekday with its number lies


@dataclass(frozen=True)
class Aloud:
    """Tokens [first, last) of a run, what they are and how that is written. `beside`: it is written after the words, not in their place."""

    kind: str  # phone, mail, date, time, amount, number
    run: int
    first: int
    last: int
    written: str
    beside: bool = False


def read_aloud(index: Index, near: date | None = None) -> list[Aloud]:
    """All that is read out, none within another, in the order of the talk. `near`: the day of today, for a talk that tells of no day of its own."""
    said = index.once("said", Said)
    found: list[Aloud] = []
    taken: set[tuple[int, int]] = set()
    day = said.own_date or near
    for some in (_mails(index, said), _phones(index, said), days(said, day, said.own_date is not None), _times(said, found), _amounts(said, index)):
        for each in some:
            spots = {(each.run, token) for token in range(each.first, each.last)}
            if not spots & taken:
                taken |= spots
                found.append(each)
    return sorted(found, key=lambda each: (each.run, each.first))


def in_figures(index: Index, near: date | None = None) -> Mapping[tuple[int, int], str]:
    """By page and number, the words of a talk that are written in another way than they are said; "" for those that the one before stands for."""
    said = index.once("said", Said)
    found: dict[tuple[int, int], str] = {}
    for each in index.once(f"aloud {near}", lambda every: read_aloud(every, near)):
        page, _, places = said.runs[each.run]
        words = index.pages[page].words
        numbers = [places[at] for at in range(each.first, each.last) if places[at] >= 0]
        if not numbers or _shared(places, each):
            continue
        last = words[numbers[-1]].text
        tail = last[len(last.rstrip(".,;:?!…")) :]
        if each.beside:
            found[page, numbers[-1]] = f"{last[: len(last) - len(tail)]} ({each.written}){tail}"
            continue
        found.update({(page, number): "" for number in numbers})
        found[page, numbers[0]] = f"{each.written}{tail}"
    return found


def _shared(places: Sequence[int], each: Aloud) -> bool:
    """Whether a word at the border holds more than what is read out."""
    before = each.first > 0 and places[each.first - 1] == places[each.first]
    return before and not each.beside


def _mails(index: Index, said: Said) -> Iterator[Aloud]:
    """Addresses that are read out: pieces with "dot" and "at" between them; letters and figures may follow each other."""
    for run, (_, words, places) in enumerate(said.runs):
        by_first = {group.first: group for group in said.groups[run][1]}
        by_last = {group.last: group for group in said.groups[run][1]}
        for at, word in enumerate(words):
            if MARKS.get(plain(word)) != "@" or at == 0:
                continue
            low, local = _before(words, at, by_last)
            high, domain = _after(words, places, at + 1, by_first)
            mail = parse_mail(f"{local}@{domain}")
            if mail and low < at and (words[at - 1] != "," or set(local) & set(".-_")):
                yield Aloud("mail", run, low, high, mail)


def _before(words: Sequence[str], at: int, by_last: Mapping[int, Group]) -> tuple[int, str]:
    """Where the part before "at" begins, and that part."""
    text, low, joined = "", at, True
    if words[low - 1] == ",":
        low -= 1
    while low > 0 and words[low - 1] not in (BREAK, ",", "?", "!"):
        group = by_last.get(low)
        mark = MARKS.get(plain(words[low - 1]))
        own_dot = words[low - 1] == "."
        if own_dot or (mark is None and group is None and not words[low - 1].isalnum()):
            break
        if mark == "@":
            break
        piece = mark or (group.figures if group else words[low - 1].lower())
        if mark is None and not joined and not (group or len(piece) == 1 or text[:1].isdigit()):
            break
        text, low, joined = piece + text, group.first if group and mark is None else low - 1, mark is not None
    return low, text.strip(".-_")


def _after(words: Sequence[str], places: Sequence[int], at: int, by_first: Mapping[int, Group]) -> tuple[int, str]:
    """Where the part after "at" ends, and that part."""
    text, high = "", at
    joined = True
    while high < len(words) and words[high] != BREAK:
        group = by_first.get(high)
        mark = MARKS.get(plain(words[high]))
        if mark is None and words[high] == "." and high + 1 < len(words) and places[high] == places[high + 1]:
            mark = "."
        if mark in (".", "-", "_"):
            text, high, joined = text + mark, high + 1, True
            continue
        if mark or not words[high].isalnum() or not (joined or group or len(words[high]) == 1):
            break
        text, high, joined = text + (group.figures if group else words[high].lower()), group.last if group else high + 1, False
    return high, text.strip(".-_")


def _phones(index: Index, said: Said) -> Iterator[Aloud]:
    for run, text, source in said.figures:
        at = 0
        for part in text.split(" "):
            if LEAST_PHONE <= len(part) <= MOST_PHONE and (number := parse_phone(part, index.phone_country)):
                yield Aloud("phone", run, source[at][0], source[at + len(part) - 1][1], number)
            at += len(part) + 1


def days(said: Said, own: date | None, certain: bool = True) -> Iterator[Aloud]:
    """Days by number and month or weekday, with or without a year, weekdays, and words such as "tomorrow".

    `own`: the day of the talk; where that is not certain, only days whose weekday fits their number and month are told.
    """
    for run, (_, words, _) in enumerate(said.runs):
        here = {group.first: group for group in said.groups[run][1]}
        for one in here.values():
            if 1 <= one.value <= 31 and len(one.figures) <= 2 and (found := _numbered(words, one, here, own, certain, said.index.language)):
                day, last = found
                yield Aloud("date", run, one.first, last, day.isoformat(), beside=True)
        if own is None or not certain:
            continue
        for at in range(len(words)):
            tomorrow = next_day(words, at, own, said.index.language)
            if tomorrow is not None:
                yield Aloud("date", run, at, at + 1, tomorrow.isoformat(), beside=True)


_ARTICLES = {"the", "am", "den", "de", "dem", "der"}
_BETWEEN = {"the", "of", "de", "den", "der", "dem", "le", "el", "il", "het", "op", "di", "del", "dia", "am", ",", ".", "d", "a", "e"}


def _numbered(
    words: Sequence[str], one: Group, here: Mapping[int, Group], own: date | None, certain: bool, language: str | None
) -> tuple[date, int] | None:
    """The day that a number means by the month or weekday next to it, or by being told as one of an order, and where its words end."""
    before = _next_to(words, range(one.first - 1, one.first - 4, -1))
    after = _next_to(words, range(one.last, one.last + 3))
    if after and plain(words[after[0]]) in HOURS:
        return None
    names = [(at, plain(words[at]).rstrip(".")) for at in (*after, *before)]
    month = next(((at, MONTHS[word]) for at, word in names if len(word) > 2 and word in MONTHS), None)
    weekdays = [WEEKDAY[word] for _, word in names if len(word) > 3 and word in WEEKDAY]
    if month is None and not weekdays:
        return _ordinal(words, one, own, language) if own and certain and not after[1:] else None
    last = max(one.last, month[0] + 1 if month else 0)
    year = _year(words, last, here)
    if month and year:
        return _on(year[0], month[1], one.value, year[1])
    if own is None:
        return None
    if month is None:
        ahead = (own + timedelta(days=more) for more in range(TILL)) if certain else ()
        return next(((day, last) for day in ahead if day.day == one.value and day.weekday() in weekdays), None)
    choices = [found for more in (0, 1, -1) if (found := _on(own.year + more, month[1], one.value, last))]
    if not certain:
        choices = [each for each in choices if weekdays and each[0].weekday() in weekdays]
        return min(choices, key=lambda each: abs((each[0] - own).days), default=None)
    return next((each for each in sorted(choices) if (each[0] - own).days >= -31), None)


def _year(words: Sequence[str], last: int, here: Mapping[int, Group]) -> tuple[int, int] | None:
    """The year that is said after a month, in one number or two: "nineteen ninety-eight"; and where its words end."""
    first = next((here[at] for at in _next_to(words, range(last, last + 2)) if at in here), None)
    if first is None:
        return None
    two = here.get(first.last)
    if two is not None and first.value in YEAR_BEGINS and 10 <= two.value < 100:
        return first.value * 100 + two.value, two.last
    return (first.value, first.last) if 1900 <= first.value < 2100 else None


def _ordinal(words: Sequence[str], one: Group, own: date, language: str | None) -> tuple[date, int] | None:
    """The next day of a number: "no, the fourteenth"."""
    if one.value < LEAST_DAY or words[one.first].isdigit() or not is_ordinal(words[one.last - 1], language):
        return None
    if one.first == 0 or plain(words[one.first - 1]) not in _ARTICLES:
        return None
    return next(((day, one.last) for more in range(TILL) if (day := own + timedelta(days=more)).day == one.value), None)


def _next_to(words: Sequence[str], span: range) -> list[int]:
    """The tokens of a span up to the first that is no small word, that one included."""
    found = []
    for at in span:
        if not 0 <= at < len(words) or words[at] == BREAK:
            break
        if plain(words[at]) not in _BETWEEN:
            found.append(at)
            if plain(words[at]) not in WEEKDAY and plain(words[at]).rstrip(".") not in MONTHS:
                break
    return found


def _on(year: int, month: int, day: int, last: int) -> tuple[date, int] | None:
    try:
        return date(year, month, day), last
    except ValueError:
        return None


def _times(said: Said, before: Sequence[Aloud]) -> Iterator[Aloud]:
    """Times of day; of a half of the day that is open, the one in which people work."""
    for run, (_, words, _) in enumerate(said.runs):
        here = said.groups[run][1]
        ends = [each.last for each in before if each.kind == "date" and each.run == run]
        for at, one in enumerate(here):
            best = max(clock_times(list(words), here, at), key=lambda each: (each[2], each[1]), default=None)
            if best is None or best[2] < 0.8 or is_ordinal(words[one.last - 1], said.index.language):
                continue
            minutes, last, _ = best
            first = _begins(words, one.first)
            told = {plain(word) for word in words[max(0, first - 1) : last + 2]} & (HOURS | _AT_TIMES) or first < one.first
            if not told and not any(0 <= first - end <= AFTER_DAY for end in ends):
                continue
            if {plain(word) for word in words[last : last + 2]} & _PRICED:
                continue
            choices = [minutes + more for more in halves_of_day(list(words), last, minutes) if 0 <= minutes + more < 1440]
            fit = [each for each in choices if 7 * 60 <= each < 19 * 60] or choices
            if fit:
                yield Aloud("time", run, first, last, f"{fit[0] // 60:02}:{fit[0] % 60:02}")


_AT_TIMES = {"at", "by", "um", "om", "alle", "las", "klockan", "kl", "until", "bis", "am", "pm"}


def _begins(words: Sequence[str], first: int) -> int:
    """Where the words of a time begin that ends with a number: "half drie", "quarter past four"."""
    before = [plain(word) for word in words[max(0, first - 2) : first]]
    if before and before[-1] in HALF:
        return first - 1
    return first - 2 if len(before) == 2 and before[0] in HALF | QUARTER and before[1] in PAST | TO else first


@dataclass(frozen=True)
class Meeting:
    """A day and a time that are said together."""

    day: str
    time: str
    run: int
    first: int  # token of the day
    last: int  # token after the time


def meetings(index: Index, near: date | None = None) -> list[Meeting]:
    """The days of a talk with the times that are said within a few words of them, before another day is."""
    found = []
    heard = [each for each in index.once(f"aloud {near}", lambda every: read_aloud(every, near)) if each.kind in ("date", "time")]
    for one, two in pairwise(heard):
        if one.kind == "date" and two.kind == "time" and one.run == two.run and two.first - one.last <= TOGETHER:
            found.append(Meeting(one.written, two.written, one.run, one.first, two.last))
    return found


def _amounts(said: Said, index: Index) -> Iterator[Aloud]:
    """Prices in two halves, and numbers in words. What is only a word by chance stays as it is."""
    language = index.language or "en"
    alone = _NO_NUMBERS.get(language, {"een", "ein", "eine", "einen", "einem", "einer", "un", "una", "en", "et", "jeden"})
    for run, (_, words, _) in enumerate(said.runs):
        here = said.groups[run][1]
        for at, one in enumerate(here):
            two = here[at + 1] if at + 1 < len(here) else None
            pair = _pair(words, one, two, language) if two else None
            if two and pair is not None:
                money = " ".join(words[one.last : two.first])
                yield Aloud("amount", run, one.first, two.last, f"{f'{pair:.2f}' if pair != int(pair) else int(pair)} {money}".strip())
            digits = _digits(words, here, at)
            if digits:
                yield Aloud("number", run, one.first, digits[1], digits[0])
            spelled = not words[one.first].isdigit()
            word = plain(words[one.first])
            if spelled and not (one.last - one.first == 1 and (word in alone or one.value < 2 or is_ordinal(word, language))):
                yield Aloud("number", run, one.first, one.last, one.figures)


def _pair(words: Sequence[str], one: Group, two: Group, language: str) -> Decimal | None:
    """The price or number that two numbers come to; None where it is open, or they are two."""
    between = [plain(word) for word in words[one.last : two.first]]
    if two.value >= 100 or one.value == 0 or (words[one.first].isdigit() and not between) or is_ordinal(plain(words[one.last - 1]), language):
        return None
    if len(between) == 1 and between[0] in MONEY:
        return one.value + Decimal(two.value) / 100
    if between or two.value < 10 or two.figures[0] == "0":
        return None
    if one.value <= 24 and two.value < 60:  # a time, unless a price is spoken of
        around = {plain(word) for word in (*words[max(0, one.first - AROUND_PAIR) : one.first], *words[two.last : two.last + AROUND_PAIR])}
        if not around & _PRICED:
            return None
    if language == "en" and (one.value < 10 or one.value in YEAR_BEGINS):
        return Decimal(one.value * 100 + two.value)
    return one.value + Decimal(two.value) / 100 if one.value < 1000 else None


def _digits(words: Sequence[str], here: Sequence[Group], at: int) -> tuple[str, int] | None:
    """Figures read out one by one: three or more, unless somebody counts."""
    text, last = here[at].figures, here[at].last
    if len(text) != 1:
        return None
    for each in here[at + 1 :]:
        if len(each.figures) != 1 or any(word != "," for word in words[last : each.first]):
            break
        text, last = text + each.figures, each.last
    counted = text in "0123456789"
    return (text, last) if len(text) >= 3 and not counted else None
