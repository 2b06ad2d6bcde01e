"""Days and times of day that are said in a talk, with what they are when counted from its day."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import date, timedelta

from metrikon.core.extraction.indexing.aloud_amounts import PRICED, YEAR_BEGINS
from metrikon.core.extraction.indexing.said import Aloud, Said
from metrikon.core.extraction.indexing.said_when import BREAK, HALF, HOURS, PAST, QUARTER, TO, WEEKDAY, clock_times, halves_of_day, next_day
from metrikon.core.values.dates import MONTHS
from metrikon.core.values.number_words import Group, is_ordinal, plain

AFTER_DAY = 8  # tokens after a day within which its time is said
LEAST_DAY = 4  # the first, second and third of something are seldom days
TILL = 45  # days ahead in which a weekday with its number lies


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
    if one.value < LEAST_DAY or words[one.first].isdecimal() or not is_ordinal(words[one.last - 1], language):
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


def times(said: Said, before: Sequence[Aloud]) -> Iterator[Aloud]:
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
            if {plain(word) for word in words[last : last + 2]} & PRICED:
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
