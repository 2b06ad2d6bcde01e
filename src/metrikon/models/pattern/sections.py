"""What the sections of an application or profile hold: posts with their months, schools, skills, languages."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

from metrikon.core.documents.model import Page
from metrikon.core.extraction.indexing.index import Index, Place
from metrikon.core.extraction.indexing.said import Said
from metrikon.core.extraction.parsing.sections import Part, list_concept, parts
from metrikon.core.records.lexicon import concepts_in, words_of
from metrikon.core.records.meaning import concept_of, meaning
from metrikon.core.records.shapes import takes
from metrikon.core.records.types import Field
from metrikon.core.values.dates import MONTHS
from metrikon.core.values.number_words import plain
from metrikon.models.pattern.rows import Rows

_YEAR = r"(?:19|20)\d{2}"
_MONTH = (
    r"(?:(?:0?[1-9]|1[0-2])[./-]|(?:"
    + "|".join(sorted((re.escape(name) for name in MONTHS if len(name) > 2), key=len, reverse=True))
    + r")\.?,?\s+(?:de\s+|del\s+)?)"
)
_POINT = rf"(?:{_MONTH})?{_YEAR}"
_NOW = r"(?:now|present|today|current|ongoing|heute|jetzt|aktuell|laufend|aujourd'hui|auj\.?|présent|present|actuel|en cours|ce jour|actualidad|actual|hoy|presente|oggi|in corso|attuale|heden|nu|atual|presente|nuvaerende|nu|dzis|obecnie|teraz)"
_RANGE = re.compile(
    rf"(?P<since>(?:since|seit|depuis|desde|dal|sinds|desde|siden|sedan|od)\s+)?(?P<from>{_POINT})(?:\s*(?:–|—|-|to|bis|until|à|au|a|al|hasta|tot|ate|até|til|till|do|/)\s*(?P<to>{_POINT}|{_NOW}))?",
    re.IGNORECASE,
)
_BULLET = re.compile(r"^[•●▪◦‣*\-–·]\s*")
_JOIN = re.compile(r"\s*[,;|•·●]\s+|\s+[–—|]\s+|\s+-\s+|\t+")
_FIRM = re.compile(
    r"\b(?:ltd|llc|inc|plc|gmbh|ag|kg|ohg|sarl|sas|sa|s\.?l|s\.?r\.?l|s\.?p\.?a|b\.?v|nv|co|company|group|hotel|school|college|university|institut\w*|hochschule|universit\w*|schule|realschule|gymnasium|"
    r"lycée|école|escuela|colegio|instituto|scuola|liceo|handwerkskammer|kammer|akademie|academy|labor|zentrum|centre|center|services?|works|farm|estate|council|trust|museum|hospital|klinik|clinic)\b",
    re.IGNORECASE,
)


@dataclass
class Entry:
    """An entry of a section: its months and its pieces of text, with their words."""

    begin: str = ""
    end: str = ""
    ongoing: bool = False
    place: Place | None = None
    pieces: list[tuple[str, Place]] = field(default_factory=list)


def entries(part: Part) -> list[Entry]:
    """The entries of a section, each with a range of months or a year; they begin where that stands, or a line before it."""
    found: list[Entry] = []
    early = _leads(part)
    held: list[tuple[Page, list[int]]] = []
    for page, words in part.lines:
        text = " ".join(page.words[n].text for n in words)
        match = _RANGE.search(text)
        good = match is not None and (match.group("to") or match.group("since") or len(text) < 90)
        if good and match is not None:
            entry = Entry(_month(match.group("from")), "", bool(match.group("since")))
            to = match.group("to") or ""
            if re.fullmatch(_NOW, to, re.IGNORECASE):
                entry.ongoing = True
            elif to:
                entry.end = _month(to)
            entry.place = Place(page.number, tuple(words))
            found.append(entry)
            if not early and held:
                entry.pieces += [piece for p, w in held[-2:] for piece in _pieces(p, w)]
            held = []
            rest = _without(page, words, match.start(), match.end())
            entry.pieces += [piece for part_words in rest for piece in _pieces(page, part_words)]
        elif found and early:
            if len(found[-1].pieces) < 4:
                found[-1].pieces += _pieces(page, words)
        else:
            held.append((page, words))
    return found


def _leads(part: Part) -> bool:
    """Whether ranges of months stand at the beginning of entries (the first line of the section has one)."""
    for page, words in part.lines[:1]:
        return bool(_RANGE.search(" ".join(page.words[n].text for n in words)))
    return True


def _without(page: Page, words: Sequence[int], start: int, end: int) -> list[list[int]]:
    """The words of a line before and after a piece of its text."""
    before, after, at = [], [], 0
    for number in words:
        if at < start and at + len(page.words[number].text) <= start + 1:
            before.append(number)
        elif at >= end:
            after.append(number)
        at += len(page.words[number].text) + 1
    return [each for each in (before, after) if each]


def _pieces(page: Page, words: Sequence[int]) -> list[tuple[str, Place]]:
    """The texts of a line, parted at commas, dashes and wide gaps."""
    found: list[tuple[str, Place]] = []
    held: list[int] = []

    def close() -> None:
        text = " ".join(page.words[n].text for n in held).strip(" ,;|·•–-()")
        text = _BULLET.sub("", text)
        if any(c.isalpha() for c in text):
            found.append((text.strip(), Place(page.number, tuple(held))))
        held.clear()

    for number in words:
        text = page.words[number].text
        wide = (
            held
            and number - 1 == held[-1]
            and page.words[number].x0 - page.words[held[-1]].x1 > 1.2 * (page.words[number].y1 - page.words[number].y0)
        )
        if wide:
            close()
        if text in ("–", "—", "|", "·", "•", "-"):
            close()
            continue
        held.append(number)
        if text.endswith((",", ";")):
            close()
    close()
    return found


def _month(text: str) -> str:
    """A month as YYYY-MM, a year as YYYY."""
    year = re.search(_YEAR, text)
    assert year is not None
    before = text[: year.start()].strip(" .,/-")
    number = re.search(r"\d{1,2}$", before)
    name = next((MONTHS[word] for word in (plain(part) for part in re.findall(r"[^\W\d_]+", before)) if word in MONTHS), None)
    month = int(number.group()) if number else name
    return f"{year.group()}-{month:02}" if month else year.group()


def section_rows(pointer: str, fields: Sequence[Field], about: str, index: Index) -> Rows:
    """The rows of a list that a section holds."""
    concept = list_concept(pointer[1:], fields, about)
    found = Rows()
    held = [part for part in parts(index) if part.concept == concept and concept]
    if not held and concept == "work":
        held = [part for part in parts(index) if part.concept == ""]  # posts that stand under no heading
    for part in held:
        if concept == "languages":
            _language_rows(pointer, fields, part, found)
        else:
            for entry in entries(part):
                values = _entry_values(entry, fields, concept)
                if values:
                    found.put(pointer, values)
    return found


def _language_rows(pointer: str, fields: Sequence[Field], part: Part, found: Rows) -> None:
    name = next((each for each in fields if concept_of(each) == "language"), fields[0])
    level = next((each for each in fields if each is not name and each.kind == "text"), None)
    for page, words in part.lines:
        for text, place in _items(page, words):
            match = re.match(r"^([^\W\d_][\w' -]*?)\s*(?:[(:]|\s[–—-]\s|\s{2,}|,\s)\s*(.+?)\)?$", text) or re.match(r"^(\S+)\s+(.{2,30})$", text)
            first, rest = (match.group(1), match.group(2).strip(" ()")) if match else (text, "")
            if not first or len(first) > 24 or not first[0].isupper():
                continue
            values: dict[str, tuple[Any, Place, float]] = {name.name: (first, place, 0.8)}
            if level is not None and rest:
                values[level.name] = (rest, place, 0.75)
            found.put(pointer, values)


def _entry_values(entry: Entry, fields: Sequence[Field], concept: str) -> dict[str, tuple[Any, Place, float]]:
    values: dict[str, tuple[Any, Place, float]] = {}
    assert entry.place is not None
    if concept == "work" and entry.pieces and any(said == "break" for said, _, _ in concepts_in(entry.pieces[0][0])):
        return {}
    texts = [each for each in entry.pieces if len(each[0]) > 1][:4]
    place_of_work = next((n for n, (text, _) in enumerate(texts) if n > 0 and _FIRM.search(text)), 1 if len(texts) > 1 else None)
    if texts and place_of_work is not None and _FIRM.search(texts[0][0]) and not _FIRM.search(texts[place_of_work][0]):
        order = (1, 0)
    else:
        order = (0, place_of_work if place_of_work is not None else 1)
    what, where = (texts[n] if n < len(texts) else None for n in order)
    for each in fields:
        role = {concept for concept, _ in meaning(each)}
        if each.kind == "yes/no":
            values[each.name] = (entry.ongoing, entry.place, 0.75)
        elif each.kind in ("month", "date") or (each.kind == "text" and each.schema.get("pattern")):
            given = entry.end if "end" in role and "begin" not in role else entry.begin if "begin" in role else ""
            shaped = next((form for form in (given, given[:4]) if form and takes(each.schema.get("pattern"), form)), None)
            if shaped:
                values[each.name] = (shaped, entry.place, 0.8)
        elif each.kind == "amount":
            year = (entry.end or entry.begin)[:4]
            if year and role & {"finished", "end", "begin", ""} | ({""} if not role else set()):
                values[each.name] = (int(year), entry.place, 0.8)
        elif each.kind == "text" and what and role & {"job title", "degree", "description", "page title"} and "employer" not in role:
            values[each.name] = (what[0], what[1], 0.7)
        elif each.kind == "text" and where and role & {"employer", "school", "sender"}:
            values[each.name] = (where[0], where[1], 0.7)
    return values if any(isinstance(value, str) for value, _, _ in values.values()) else {}


def _items(page: Page, words: Sequence[int]) -> Iterator[tuple[str, Place]]:
    """The items of a list in running text: parted by commas, semicolons, bullets and dots."""
    held: list[int] = []
    depth = 0
    for number in [*words, -1]:
        text = page.words[number].text if number >= 0 else "|"
        gap = held and number >= 0 and page.words[number].x0 - page.words[held[-1]].x1 > 1.5 * (page.words[number].y1 - page.words[number].y0)
        if text in ("·", "•", "|", "●", "▪", "/") or gap:
            if held and (item := _item(page, held)):
                yield item
            held = [number] if gap and text not in ("·", "•", "|", "●", "▪", "/") else []
            continue
        held.append(number)
        depth += text.count("(") - text.count(")")
        if text.endswith((",", ";")) and depth <= 0:
            if item := _item(page, held):
                yield item
            held = []


def _item(page: Page, words: Sequence[int]) -> tuple[str, Place] | None:
    text = _BULLET.sub("", " ".join(page.words[n].text for n in words).strip(" ,;.·•|")).strip()
    return (text, Place(page.number, tuple(words))) if any(c.isalpha() for c in text) else None


def section_items(name: str, about: str, index: Index) -> list[tuple[str, Place]]:
    """The items of a list of plain texts that a section holds, such as skills."""
    concept = list_concept(name, (), about)
    own = {word[:5] for word in words_of(f"{name.replace('_', ' ')} {about}") if len(word) > 3}
    held = [part for part in parts(index) if part.concept == concept and concept in ("skills", "languages", "work", "education")]
    held = held or [part for part in parts(index) if part.heading and own & {word[:5] for word in words_of(part.heading)}]
    return [item for part in held for page, words in part.lines for item in _items(page, words)]


__all__ = ["Said", "entries", "parts", "section_items", "section_rows"]
