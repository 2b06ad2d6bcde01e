"""What somebody takes back in a talk: a number, a day or a time after which, with a word such as "no" or "rather", another is said."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from itertools import pairwise
from typing import Any

from metrikon.core.documents.model import words_box
from metrikon.core.extraction.doubting.in_parts import of_their_parts
from metrikon.core.extraction.grounding.grounding import put
from metrikon.core.extraction.indexing.aloud import Meeting, meetings, read_aloud
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.indexing.placed import said_of
from metrikon.core.extraction.indexing.said import Aloud
from metrikon.core.extraction.state import State
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import get, shape
from metrikon.core.records.types import RecordType
from metrikon.core.values.number_words import plain
from metrikon.core.values.numbers import parse_number

SOON = 24  # tokens within which something is put right
_RIGHTED = """
no sorry wait actually rather instead correction scratch nein doch quatsch sondern lieber korrektur entschuldigung falsch vertan non pardon plutot erreur
perdon mejor digo perdona anzi scusi scusa meglio sbagliato nee liever toch eigenlijk wacht verkeerd nao alias melhor desculpe nej undskyld hellre
snarere forlat hellre fel nie przepraszam raczej
"""
_WORDS = frozenset(_RIGHTED.split())
_DENIALS = frozenset(["no", "non", "nao", "nie"])  # these deny a verb, too: they put right only where the sentence stops at them


@dataclass(frozen=True)
class Back:
    """What was taken back, and what was said in its place; `by_one`: by the same speaker, in one breath."""

    first: Aloud
    then: Aloud
    by_one: bool = True


def taken_back(index: Index) -> list[Back]:
    """All numbers that are taken back in a talk."""
    return index.once("taken back", lambda each: list(_backs(each))) if index.document.sentences else []


def _backs(index: Index) -> Iterator[Back]:
    said = said_of(index)
    heard = index.once("aloud None", read_aloud)
    spoken = index.once("turns", _turns)
    for one, two in pairwise([each for each in heard if each.kind in ("number", "amount")]):
        if one.run != two.run or two.first - one.last > SOON or one.written == two.written:
            continue
        if _put_right(said.runs[one.run][1][one.last : two.first]):
            speakers = {
                spoken.get((place.page, place.words[0])) for each in (one, two) if (place := said.place(each.run, each.first, each.last)).words
            }
            yield Back(one, two, len(speakers) == 1)


def _put_right(words: Sequence[str]) -> bool:
    """Whether words between two numbers put the first right."""
    plainly = [plain(word) for word in words]
    return any(
        word in _WORDS and (word not in _DENIALS or at + 1 == len(words) or not words[at + 1][:1].isalnum()) for at, word in enumerate(plainly)
    )


def _turns(index: Index) -> dict[tuple[int, int], int]:
    """The number of the turn in which each word is said; a turn ends where another speaks."""
    found: dict[tuple[int, int], int] = {}
    turn, speaker = 0, None
    for each in index.document.sentences:
        turn, speaker = turn + (each.speaker != speaker), each.speaker
        found.update(dict.fromkeys(((each.page, word) for word in each.words), turn))
    return found


def of_what_was_taken_back(
    kind: RecordType, record: Mapping[str, Any], evidence: Mapping[str, Evidence], index: Index, doubted: Callable[[str, Any], bool]
) -> tuple[dict[str, Any], list[Finding]]:
    """What stands in the place of numbers that somebody takes back, by pointer, where it is plain and the model was unsure; and findings for all of them."""
    instead: dict[str, Any] = {}
    found = []
    for pointer, back in _given(kind, record, evidence, index):
        value = get(record, pointer)
        message = f"{kind.titled(pointer)} is given as {value}, which is taken back: {back.then.written} is said soon after it."
        compared = {}
        if (
            doubted(pointer, value)
            and back.by_one
            and back.first.kind == back.then.kind == "number"
            and (number := parse_number(back.then.written, ".")) is not None
        ):
            instead[pointer], compared = (int(number) if number == int(number) else number), {"given": str(value)}
            message = (
                f"{kind.titled(pointer)} was given as {value}, which is taken back; {back.then.written}, which is said soon after it, was taken."
            )
        found.append(Finding("taken back", "stop", message, (pointer,), compared))
    return instead, found


def _given(kind: RecordType, record: Mapping[str, Any], evidence: Mapping[str, Evidence], index: Index) -> Iterator[tuple[str, Back]]:
    """Numbers of a record that stand only where somebody takes them back, by pointer."""
    backs = taken_back(index)
    last = index.once("said last", _last) if backs else {}
    for back in backs:
        if last.get(back.first.written, (-1, -1)) > (back.then.run, back.then.first):
            continue  # it is said again later
        place = said_of(index).place(back.first.run, back.first.first, back.first.last)
        if not place.words:
            continue
        box = words_box(index.pages[place.page], place.words)
        for pointer, each in evidence.items():
            field = kind.by_shape.get(shape(pointer))
            value = get(record, pointer)
            if field is None or field.kind != "amount" or isinstance(value, bool) or not isinstance(value, int | Decimal) or each.box is None:
                continue
            if Decimal(value) == Decimal(back.first.written.split()[0]) and each.page == place.page and each.box == box:
                yield pointer, back


def _last(index: Index) -> dict[str, tuple[int, int]]:
    """Where each thing is said for the last time."""
    return {each.written: (each.run, each.first) for each in index.once("aloud None", read_aloud)}


def moment_put_right(value: str, index: Index, near: date | None) -> str | None:
    """The moment that is said last of several at one time of day, where the talk puts the day right between them; None otherwise."""
    every = [each for each in meetings(index, near) if each.time == value[11:16]]
    days = list(dict.fromkeys(each.day for each in every))
    if len(days) < 2 or value[:10] not in days or value[:10] == every[-1].day:
        return None
    own = next(each for each in reversed(every) if each.day == value[:10])
    return every[-1].day + value[10:] if _righted(own, every[-1], index) else None


def _righted(one: Meeting, two: Meeting, index: Index) -> bool:
    return one.run == two.run and _put_right(said_of(index).runs[one.run][1][one.last : two.first])


def take_back(state: State) -> State:
    """With what stands in the place of what was taken back, or of what stands in the part of another row; evidence anew where any was."""
    if state.by_patterns or not state.given:
        return state
    kind, record, evidence, index = state.kind, state.record, state.evidence, state.index
    back, found = of_what_was_taken_back(kind, record, evidence, index, state.draft.doubted)
    parts = of_their_parts(kind, record, evidence, index)
    placed = {at: value for at, value in parts.items() if state.draft.doubted(at, get(record, at))}
    told = [f"{at}: {get(record, at)!r} stands outside the part of its row; {value or 'nothing'} was taken." for at, value in placed.items()]
    return put(state, {**back, **placed}).told(told).noted(found)
