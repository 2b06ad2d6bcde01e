"""What is read out in a talk, and how it is written: telephone numbers, addresses, days, times, prices and numbers in words.

A model is shown these in figures, so that it need not understand "zero six, thirty-nine" or reckon when "Friday the twenty-third" is.
Where it is open what is meant, the words stay as they were said.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from itertools import pairwise

from metrikon.core.extraction.indexing.aloud_amounts import amounts
from metrikon.core.extraction.indexing.aloud_contacts import mails, phones
from metrikon.core.extraction.indexing.aloud_when import days, times
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.indexing.said import Aloud, Said

TOGETHER = 20  # tokens after a day within which a time is said of it


def read_aloud(index: Index, near: date | None = None) -> list[Aloud]:
    """All that is read out, none within another, in the order of the talk. `near`: the day of today, for a talk that tells of no day of its own."""
    said = index.once("said", Said)
    found: list[Aloud] = []
    taken: set[tuple[int, int]] = set()
    day = said.own_date or near
    for some in (mails(index, said), phones(index, said), days(said, day, said.own_date is not None), times(said, found), amounts(said, index)):
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
