"""What is said in a talk, for fields without labels: who calls, numbers and prices in words, days and times, telephone numbers and addresses read out.

Where something is said several times the last word counts: people correct themselves.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from decimal import Decimal
from typing import Any

from metrikon.core.documents.model import Sentence
from metrikon.core.extraction.indexing.aloud import meetings, read_aloud
from metrikon.core.extraction.indexing.aloud_amounts import MONEY as COINS
from metrikon.core.extraction.indexing.forms import formed
from metrikon.core.extraction.indexing.index import Index, Place
from metrikon.core.extraction.indexing.said import Said
from metrikon.core.records.meaning import MONEY, concept_of, own_stems
from metrikon.core.records.types import Field
from metrikon.core.values.number_words import plain
from metrikon.models.pattern.generic import Option

SURE = 0.5
OPEN = 0.45  # of days: what is said need not be agreed, and of many that are said one may be meant
AROUND = 8  # tokens around a number that may say what it counts
SURE_TIME = 0.8  # of a time: less sure ones are other numbers
NEAR_TIME = 20  # tokens after a day within which its time is said
_NAME = r"((?:[A-ZÀ-Þ][\w'’-]+)(?:\s+(?:de|da|van|von|der|den|la|le|del|di|[A-ZÀ-Þ][\w'’-]+)){0,4})"
_CALLED = re.compile(
    r"\b(?:[Mm]y name is|[Nn]ame is|[Tt]his is|I am|I'm|[Mm]ein Name ist|[Hh]ier ist|[Ii]ch bin|[Ii]ch heiße|[Jj]e m'appelle|[Jj]e suis|[Aa]u nom de|[Mm]i nombre es|[Mm]e llamo|[Ss]oy"
    r"|[Mm]i chiamo|[Mm]ijn naam is|[Ii]k ben|[Mm]et|[Cc]hamo-me|[Oo] meu nome é|[Jj]eg hedder|[Mm]it navn er|[Jj]ag heter|[Mm]itt namn är|[Nn]azywam się)\s+"
    + _NAME
)


def said_options(field: Field, index: Index) -> list[Option]:
    """Values that a talk has for a field, likeliest first."""
    if not index.document.sentences:
        return []
    said = index.once("said", Said)
    found: list[Option] = []
    if field.kind == "text" and concept_of(field) in ("person", "receiver"):
        found = list(_names(index))
    elif field.kind in ("phone", "mail", "moment", "date"):
        found = list(_read_out(field, index, said))
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


def _read_out(field: Field, index: Index, said: Said) -> Iterator[Option]:
    """Telephone numbers, addresses and days as they are read out; moments where a day and a time are said together."""
    if field.kind == "moment":
        for each in meetings(index):
            whole = f"{each.day}T{each.time}"
            yield Option(formed(field, whole, index) or whole, said.place(each.run, each.first, each.last), OPEN)
        return
    for heard in index.once("aloud None", read_aloud):
        place = said.place(heard.run, heard.first, heard.last)
        if heard.kind == field.kind and place.words and (value := formed(field, heard.written, index) if field.kind == "phone" else heard.written):
            yield Option(value, place, SURE if heard.kind != "date" else OPEN)


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
                if not ({plain(word) for word in words[one.last : one.last + 2]} & COINS):
                    continue
                if two is not None and len(between) == 1 and two.value < 100:
                    value = one.value + Decimal(two.value) / 100
            if score >= 0.25 and (place := said.place(run, one.first, one.last)).words:
                yield Option(value, place, min(SURE, 0.25 + score))
