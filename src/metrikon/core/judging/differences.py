"""What differs between two texts or two values. The order of lines and rows, how a number or date is written, spelling, case, marks and layout are no difference.

Work grows with the length of what is compared: what is the same is counted away first, only the rest is paired.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal
from functools import lru_cache
from typing import Any, Literal

import msgspec

from metrikon.core.values.dates import date_readings
from metrikon.core.values.numbers import decimal_mark, parse_number
from metrikon.core.values.text import fold

LIKE = 0.4  # the share of words that two lines have in common, when one is taken for the other as it is now
MOST_PAIRED = 3000  # lines or rows that are set against each other; more are told as they stand
SHORTEST_DATE, LONGEST_DATE = 6, 5  # letters, words
LEAST_SPELT = 5  # letters of a word that may be written with one letter otherwise
COMMON, NEAR = 60, 3  # lines that hold a word: one in more of them tells nothing; lines around the same place, which are looked at in any case

_TOKEN = re.compile(r"[-+−–]?\d+(?:[.,:'’/\u00a0\u202f-]\d+)*|[^\W\d_]+|[€$£%]")
How = Literal["added", "removed", "number", "date", "text"]


class Change(msgspec.Struct, frozen=True, omit_defaults=True):
    """One difference: what it is of, how it differs, and both sides as they are written. `at`: a path within a record, or nothing."""

    how: How
    before: str = ""
    after: str = ""
    at: str = ""


def lines_differ(before: Sequence[str], after: Sequence[str]) -> list[Change]:
    """The differences between the lines of two texts."""
    one, two = _Lines(before), _Lines(after)
    same = one.counted & two.counted
    gone, come = one.beyond(same), two.beyond(same)
    between_one, between_two = one.between(gone), two.between(come)
    flowed_one, flowed_two = one.flow, two.flow
    gone = [line for line in gone[:MOST_PAIRED] if flowed_two.count(line.flow) < flowed_one.count(line.flow)] + gone[MOST_PAIRED:]
    come = [line for line in come[:MOST_PAIRED] if flowed_one.count(line.flow) < flowed_two.count(line.flow)] + come[MOST_PAIRED:]
    found: list[Change] = []
    pairs = list(_paired([_dated(each.tokens) for each in gone], [_dated(each.tokens) for each in come]))
    for left, right in _in_place(pairs, gone, come, between_one, between_two):
        if left is None or right is None:
            line = gone[left] if left is not None else come[right] if right is not None else None
            if line is not None:
                found.append(Change("removed", line.text) if left is not None else Change("added", after=line.text))
        elif how := _how(gone[left].tokens, come[right].tokens):
            found.append(Change(how, gone[left].text, come[right].text))
    return found


def _in_place(
    pairs: Sequence[tuple[int | None, int | None]], gone: Sequence[_Line], come: Sequence[_Line], one: Mapping[int, Any], two: Mapping[int, Any]
) -> Iterator[tuple[int | None, int | None]]:
    """The pairs, with a line that has none taken for the one that stands in its place now: the only two between the same lines that are still there."""
    held: dict[Any, list[int]] = defaultdict(list)
    for left, right in pairs:
        if left is None and right is not None and id(come[right]) in two:
            held[two[id(come[right])]].append(right)
    lone = Counter(one.get(id(gone[left])) for left, right in pairs if right is None and left is not None)
    taken: dict[int, int] = {}
    for left, right in pairs:
        if right is None and left is not None:
            place = one.get(id(gone[left]))
            if place is not None and lone[place] == 1 and len(held[place]) == 1:
                taken[left] = held[place][0]
    gone_to = set(taken.values())
    for left, right in pairs:
        if left is None and right in gone_to:
            continue
        yield (left, taken[left]) if left is not None and left in taken else (left, right)


def values_differ(before: Any, after: Any, at: str = "") -> Iterator[Change]:
    """The differences between two values, such as records: rows of lists are paired by what they hold, whatever their order."""
    if isinstance(before, Mapping) and isinstance(after, Mapping):
        for name in dict.fromkeys([*before, *after]):
            yield from values_differ(before.get(name), after.get(name), f"{at}.{name}" if at else str(name))
    elif isinstance(before, list) and isinstance(after, list):
        yield from _rows_differ(before, after, at)
    elif _empty(before) and _empty(after):
        return
    elif _empty(before) or _empty(after):
        yield Change("removed", _told(before), at=at) if _empty(after) else Change("added", after=_told(after), at=at)
    elif how := _unlike(before, after):
        yield Change(how, _told(before), _told(after), at)


def _rows_differ(before: Sequence[Any], after: Sequence[Any], at: str) -> Iterator[Change]:
    ours, theirs = [_normal(each) for each in before], [_normal(each) for each in after]
    same = Counter(ours) & Counter(theirs)
    gone, come = _rest(ours, same), _rest(theirs, same)
    for left, right in _paired([_words_of(before[n]) for n in gone], [_words_of(after[n]) for n in come]):
        number = gone[left] if left is not None else come[right] if right is not None else 0
        if left is None:
            yield Change("added", after=_told(after[number]), at=f"{at}[{number + 1}]")
        elif right is None:
            yield Change("removed", _told(before[number]), at=f"{at}[{number + 1}]")
        else:
            yield from values_differ(before[number], after[come[right]], f"{at}[{number + 1}]")


def _rest(normal: Sequence[str], same: Counter[str]) -> list[int]:
    """The numbers of rows beyond those that are the same."""
    left, found = Counter(same), []
    for number, each in enumerate(normal):
        if left[each] > 0:
            left[each] -= 1
        else:
            found.append(number)
    return found


class _Line(msgspec.Struct, frozen=True):
    text: str
    tokens: tuple[str, ...]

    @property
    def flow(self) -> str:
        return f" {' '.join(self.tokens)} "


class _Lines:
    """The lines of a text that say something, with their words."""

    def __init__(self, texts: Sequence[str]) -> None:
        mark = decimal_mark(texts)
        every = [_Line(text.strip(), tokens(text, mark)) for text in texts]
        self.lines = [each for each in every if each.tokens]
        self.counted = Counter(each.tokens for each in self.lines)

    @property
    def flow(self) -> str:
        """All words in their order, as if there were no lines; every two words with two spaces between, so that each is found by itself."""
        return "".join(f" {word} " for each in self.lines for word in each.tokens).replace("  ", " ")

    def between(self, some: Sequence[_Line]) -> dict[int, tuple[Any, Any]]:
        """Between which other lines each of some stands, by what those say; None before the first and after the last."""
        wanted = {id(each) for each in some}
        found: dict[int, tuple[Any, Any]] = {}
        before: Any = None
        open_: list[int] = []
        for each in self.lines:
            if id(each) in wanted:
                open_.append(id(each))
            else:
                found |= dict.fromkeys(open_, (before, each.tokens))
                before, open_ = each.tokens, []
        return found | dict.fromkeys(open_, (before, None))

    def beyond(self, same: Counter[tuple[str, ...]]) -> list[_Line]:
        """The lines that are not among those, each so often."""
        left, found = Counter(same), []
        for each in self.lines:
            if left[each.tokens] > 0:
                left[each.tokens] -= 1
            else:
                found.append(each)
        return found


def tokens(text: str, mark: str | None = None) -> tuple[str, ...]:
    """The words of a text, folded; numbers as what they are worth. `mark`: the decimal mark of the text around it."""
    return tuple(_token(match.group(), mark) for match in _TOKEN.finditer(text))


@lru_cache(maxsize=16384)
def _token(word: str, mark: str | None) -> str:
    if not any(c.isdecimal() for c in word):
        return fold(word)
    number = parse_number(word.replace("−", "-").replace("–", "-"), mark)
    return f"{number.normalize():f}" if number is not None and abs(number) < 10**15 else word


def _paired(ours: Sequence[tuple[str, ...]], theirs: Sequence[tuple[str, ...]]) -> Iterator[tuple[int | None, int | None]]:
    """Which of ours has become which of theirs, the likest first; those that have none."""
    holding: dict[str, list[int]] = defaultdict(list)
    for number, words in enumerate(theirs[:MOST_PAIRED]):
        for word in set(words):
            holding[word].append(number)
    kinds = [set(words) for words in theirs]
    scores = []
    for number, words in enumerate(ours[:MOST_PAIRED]):
        own = set(words)
        near = set(range(max(0, number - NEAR), min(len(theirs), number + NEAR + 1)))
        for other in near.union(*(holding[word] for word in own if word in holding and len(holding[word]) <= COMMON)):
            share = 2 * len(own & kinds[other]) / (len(own) + len(kinds[other]))
            if share >= LIKE:
                scores.append((-share, abs(number - other), number, other))
    left, right = set(range(len(ours))), set(range(len(theirs)))
    pairs: dict[int, int] = {}
    for _, _, number, other in sorted(scores):
        if number in left and other in right:
            pairs[number] = other
            left.discard(number)
            right.discard(other)
    yield from ((number, pairs.get(number)) for number in range(len(ours)))
    yield from ((None, other) for other in sorted(right))


def _how(before: tuple[str, ...], after: tuple[str, ...]) -> How | None:
    """How two texts differ; None where they say the same."""
    one, two = list(before), list(after)
    if _spelt_alike(one, two):
        return None
    one, two = list(_dated(one)), list(_dated(two))
    if _spelt_alike(one, two):
        return None
    words = [[each for each in side if not _is_figure(each)] for side in (one, two)]
    if _spelt_alike(words[0], words[1]):
        return "date" if any(each.startswith("date ") for each in {*one} ^ {*two}) else "number"
    return "text"


def _spelt_alike(one: Sequence[str], two: Sequence[str]) -> bool:
    return len(one) == len(two) and all(left == right or _nearly(left, right) for left, right in zip(one, two, strict=True))


def _nearly(one: str, two: str) -> bool:
    """Whether two words differ in one letter only; figures never do."""
    if _is_figure(one) or _is_figure(two) or min(len(one), len(two)) < LEAST_SPELT or abs(len(one) - len(two)) > 1:
        return False
    at = next((n for n, (a, b) in enumerate(zip(one, two, strict=False)) if a != b), min(len(one), len(two)))
    return one[at + 1 :] == two[at + 1 :] or one[at:] == two[at + 1 :] or one[at + 1 :] == two[at:]


def _is_figure(word: str) -> bool:
    return any(c.isdecimal() for c in word)


def _dated(words: Sequence[str]) -> tuple[str, ...]:
    """The words with dates as one word each, however they are written."""
    if not any(map(_is_figure, words)):
        return tuple(words)
    found: list[str] = []
    at = 0
    while at < len(words):
        read = _date_at(words, at)
        if read is not None and not _is_figure(words[at]) and _date_at(words, at + 1) is not None:
            read = None  # the word before a date, such as "from", is no part of it
        found.append(read[0] if read is not None else words[at])
        at += read[1] if read is not None else 1
    return tuple(found)


def _date_at(words: Sequence[str], at: int) -> tuple[str, int] | None:
    """The date that begins with a word, as one word, and how many words it takes."""
    for length in range(1, min(LONGEST_DATE, len(words) - at) + 1):
        part = " ".join(words[at : at + length])
        if length > 1 and not any(map(_is_figure, words[at : at + 2])):
            return None  # a date has a figure among its first two words
        readings = date_readings(part) if len(part) >= SHORTEST_DATE and _is_figure(part) else ()
        if readings:
            return f"date {readings[0].isoformat() if len(readings) == 1 else part}", length
    return None


def _unlike(before: Any, after: Any) -> How | None:
    numbers = [_number(each) for each in (before, after)]
    if isinstance(before, bool) or isinstance(after, bool):
        return None if before == after else "text"
    if None not in numbers:
        return None if numbers[0] == numbers[1] else "number"
    return _how(tokens(_told(before)), tokens(_told(after)))


def _number(value: Any) -> Decimal | None:
    if isinstance(value, bool):
        return None
    if isinstance(value, Decimal | int):
        return Decimal(value)
    return parse_number(value) if isinstance(value, str) and not any(c.isalpha() for c in value) and not date_readings(value) else None


def _empty(value: Any) -> bool:
    return value is None or value in ("", [], {})


def _told(value: Any) -> str:
    if isinstance(value, Mapping):
        return ", ".join(f"{name} {_told(part)}" for name, part in value.items() if not _empty(part))
    if isinstance(value, list):
        return "; ".join(_told(each) for each in value)
    return {True: "yes", False: "no"}[value] if isinstance(value, bool) else f"{value:f}" if isinstance(value, Decimal) else str(value)


def _words_of(value: Any) -> tuple[str, ...]:
    return tokens(_told(value))


def _normal(value: Any) -> str:
    """A value as what it says, for finding those that are the same."""
    if isinstance(value, Mapping):
        return "{" + ",".join(f"{name}:{_normal(part)}" for name, part in sorted(value.items()) if not _empty(part)) + "}"
    if isinstance(value, list):
        return "[" + ",".join(sorted(_normal(each) for each in value)) + "]"
    if isinstance(value, bool):
        return str(value)
    number = _number(value)
    return f"{number.normalize():f}" if number is not None else " ".join(tokens(str(value)))
