"""Telephone numbers and mail addresses that are read out in a talk."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.indexing.said import Aloud, Said
from metrikon.core.extraction.indexing.said_when import BREAK
from metrikon.core.values.number_words import MARKS, Group, plain
from metrikon.core.values.phones import parse_phone
from metrikon.core.values.web import parse_mail

LONGEST = 30  # tokens of a part of an address that is spelled
LEAST_PHONE, MOST_PHONE = 9, 14  # figures


def mails(index: Index, said: Said) -> Iterator[Aloud]:
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
    while low > max(0, at - LONGEST) and words[low - 1] not in (BREAK, ",", "?", "!"):
        group = by_last.get(low)
        mark = MARKS.get(plain(words[low - 1]))
        own_dot = words[low - 1] == "."
        if own_dot or (mark is None and group is None and not words[low - 1].isalnum()):
            break
        if mark == "@":
            break
        piece = mark or (group.figures if group else words[low - 1].lower())
        if mark is None and not joined and not (group or len(piece) == 1 or text[:1].isdecimal()):
            break
        text, low, joined = piece + text, group.first if group and mark is None else low - 1, mark is not None
    return low, text.strip(".-_")


def _after(words: Sequence[str], places: Sequence[int], at: int, by_first: Mapping[int, Group]) -> tuple[int, str]:
    """Where the part after "at" ends, and that part."""
    text, high = "", at
    joined = True
    while high < min(len(words), at + LONGEST) and words[high] != BREAK:
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


def phones(index: Index, said: Said) -> Iterator[Aloud]:
    """Telephone numbers whose figures are read out one after the other, in words or figures, as E.164."""
    for run, text, source in said.figures:
        at = 0
        for part in text.split(" "):
            if LEAST_PHONE <= len(part) <= MOST_PHONE and (number := parse_phone(part, index.phone_country)):
                yield Aloud("phone", run, source[at][0], source[at + len(part) - 1][1], number)
            at += len(part) + 1
