"""What is said in a talk, for fields without labels: who calls, numbers and prices in words, days and times, telephone numbers and addresses read out.

Where something is said several times the last word counts: people correct themselves.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

from metrikon.core.documents.model import Sentence
from metrikon.core.extraction.forms import formed
from metrikon.core.extraction.index import Index, Place
from metrikon.core.extraction.said import Said
from metrikon.core.extraction.said_when import BREAK, clock_times
from metrikon.core.records.meaning import MONEY, concept_of, own_stems
from metrikon.core.records.types import Field
from metrikon.core.values.dates import MONTHS
from metrikon.core.values.number_words import Group, plain, read_out
from metrikon.core.values.phones import parse_phone
from metrikon.core.values.web import parse_mail
from metrikon.models.pattern.generic import Option

SURE = 0.5
AROUND = 8  # tokens around a number that may say what it counts
SURE_TIME = 0.8  # of a time: less sure ones are other numbers
NEAR_TIME = 20  # tokens after a day within which its time is said
_NAME = r"((?:[A-ZÀ-Þ][\w'’-]+)(?:\s+(?:de|da|van|von|der|den|la|le|del|di|[A-ZÀ-Þ][\w'’-]+)){0,4})"
_CALLED = re.compile(
    r"\b(?:[Mm]y name is|[Nn]ame is|[Tt]his is|I am|I'm|[Mm]ein Name ist|[Hh]ier ist|[Ii]ch bin|[Ii]ch heiße|[Jj]e m'appelle|[Jj]e suis|[Aa]u nom de|[Mm]i nombre es|[Mm]e llamo|[Ss]oy"
    r"|[Mm]i chiamo|[Mm]ijn naam is|[Ii]k ben|[Mm]et|[Cc]hamo-me|[Oo] meu nome é|[Jj]eg hedder|[Mm]it navn er|[Jj]ag heter|[Mm]itt namn är|[Nn]azywam się)\s+"
    + _NAME
)
_AT = frozenset(["at", "arobase", "arroba", "chiocciola", "apenstaartje", "snabela", "malpa", "klammeraffe"]) | {"@"}


def said_options(field: Field, index: Index) -> list[Option]:
    """Values that a talk has for a field, likeliest first."""
    if not index.document.sentences:
        return []
    said = index.once("said", Said)
    found: list[Option] = []
    if field.kind == "text" and concept_of(field) in ("person", "receiver"):
        found = list(_names(index))
    elif field.kind == "phone":
        found = list(_phones(field, index, said))
    elif field.kind == "mail":
        found = list(_mails(index, said))
    elif field.kind in ("moment", "date"):
        found = list(_days(field, index, said))
    elif field.kind == "amount":
        found = list(_numbers(field, said))
    found.reverse()  # the last word counts
    return sorted(found, key=lambda each: -each.score)


def _names(index: Index) -> Iterator[Option]:
    first = index.document.sentences[0].speaker
    for sentence in index.document.sentences:
        for match in _CALLED.finditer(sentence.text):
            place = _words(index, sentence, match.group(1))
            if place is not None:
                yield Option(match.group(1), place, SURE if sentence.speaker != first else SURE - 0.1)


def _words(index: Index, sentence: Sentence, text: str) -> Place | None:
    wanted = text.split()
    words = [index.pages[sentence.page].words[n].text.strip(".,!?;:") for n in sentence.words] if sentence.page else []
    for at in range(len(words) - len(wanted) + 1):
        if words[at : at + len(wanted)] == wanted:
            return Place(sentence.page, sentence.words[at : at + len(wanted)])
    return None


def _phones(field: Field, index: Index, said: Said) -> Iterator[Option]:
    for run, text, source in said.figures:
        at = 0
        for part in text.split(" "):
            if 9 <= len(part) <= 14 and (number := parse_phone(part, index.phone_country)) and formed(field, number, index):
                place = said.place(run, source[at][0], source[at + len(part) - 1][1])
                if place.words:
                    yield Option(number, place, SURE)
            at += len(part) + 1


def _mails(index: Index, said: Said) -> Iterator[Option]:
    for run, (_, words, _) in enumerate(said.runs):
        for at, word in enumerate(words):
            if plain(word) in _AT and words[at + 1 : at + 2] != [BREAK]:
                for start in range(max(0, at - 10), at):
                    mail = next(
                        (
                            m
                            for end in range(min(len(words), at + 8), at + 2, -1)
                            if (m := parse_mail(read_out(" ".join(words[start:end]), index.language)))
                        ),
                        None,
                    )
                    if mail and BREAK not in words[start:at] and "," not in words[start:at]:
                        yield Option(mail, said.place(run, start, at + 1), SURE)
                        break


def _days(field: Field, index: Index, said: Said) -> Iterator[Option]:
    for run, here in said.groups:
        words = said.runs[run][1]
        for number, one in enumerate(here):
            day = _day(words, one, said)
            if day is None:
                continue
            place = said.place(run, one.first, one.last)
            if field.kind == "date":
                yield Option(day.isoformat(), place, SURE)
                continue
            for later in range(number + 1, len(here)):
                if here[later].first - one.last > NEAR_TIME:
                    break
                time = max(clock_times(words, here, later), key=lambda each: each[2], default=None)
                if time is not None and time[2] >= SURE_TIME and place.words:
                    minutes = time[0] + 720 if time[0] < 7 * 60 else time[0]
                    whole = f"{day.isoformat()}T{minutes // 60:02}:{minutes % 60:02}"
                    yield Option(formed(field, whole, index) or whole, place, SURE)
                    break


def _day(words: list[str], one: Group, said: Said) -> date | None:
    """The day that a number with the name of a month by it means: the next one from the day of the talk."""
    if not 1 <= one.value <= 31 or said.own_date is None:
        return None
    near = [plain(word).rstrip(".") for word in (*words[max(0, one.first - 1) : one.first], *words[one.last : one.last + 3]) if word != BREAK]
    month = next((MONTHS[word] for word in near if len(word) > 2 and word in MONTHS), None)
    if month is None:
        return None
    for year in (said.own_date.year, said.own_date.year + 1):
        try:
            day = date(year, month, one.value)
        except ValueError:
            return None
        if day >= said.own_date - timedelta(days=7):
            return day
    return None


def _numbers(field: Field, said: Said) -> Iterator[Option]:
    """Numbers with words of the field around them; prices for money."""
    name, about = own_stems(field)
    money = concept_of(field) in MONEY
    for run, here in said.groups:
        words = said.runs[run][1]
        for number, one in enumerate(here):
            around = {plain(word)[:5] for word in words[max(0, one.first - AROUND) : one.last + AROUND]}
            score = 0.3 * bool(around & name) + 0.25 * bool(around & about)
            value: Any = one.value
            if money:
                two = here[number + 1] if number + 1 < len(here) else None
                between = [plain(word) for word in words[one.last : two.first]] if two else []
                if not ({plain(word) for word in words[one.last : one.last + 2]} & _COINS):
                    continue
                if two is not None and len(between) == 1 and two.value < 100:
                    value = one.value + Decimal(two.value) / 100
            if score >= 0.25 and (place := said.place(run, one.first, one.last)).words:
                yield Option(value, place, min(SURE, 0.25 + score))


_COIN_WORDS = "euro euros eur dollar dollars pound pounds franken francs francos franchi kronor kroner kr zloty zlotych € $ £"
_COINS = frozenset(_COIN_WORDS.split())
