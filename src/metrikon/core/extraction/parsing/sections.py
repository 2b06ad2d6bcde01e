"""Sections of an application or profile under their headings in ten languages, and which of them a list of a record type is of."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from metrikon.core.documents.model import Page
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.records.lexicon import concepts_in, words_of
from metrikon.core.records.meaning import concept_of
from metrikon.core.records.types import Field

SECTIONS = ("work", "education", "skills", "languages", "voluntary")


@dataclass
class Part:
    """A section: what it is about and its lines, each (page, words)."""

    concept: str
    heading: str = ""
    lines: list[tuple[Page, list[int]]] = field(default_factory=list)


def parts(index: Index) -> list[Part]:
    """The sections of a document; what stands before the first heading has no concept."""
    return index.once("sections", lambda each: list(_parts(each)))


def _parts(index: Index) -> Iterator[Part]:
    now = Part("")
    for page in index.document.pages:
        columns = _columns(page)
        styles = _styles(page)
        for number, segments in enumerate(columns):
            if number:
                yield now
                now = Part("")
            for words in segments:
                concept, heading, left = _begins(page, words, styles)
                if concept:
                    yield now
                    now = Part(concept, heading)
                    if left:
                        now.lines.append((page, left))
                else:
                    now.lines.append((page, words))
    yield now


def _begins(page: Page, words: list[int], styles: set[tuple[int, int]]) -> tuple[str, str, list[int]]:
    """(concept, heading, words after it) of a line that begins a section; no concept for other lines."""
    text = " ".join(page.words[n].text for n in words)
    concept, rest = _heading(text)
    if concept:
        return concept, text, words[len(words) - rest :] if rest else []
    line = page.lines[page.line_of[words[0]]]
    first = next((s for s in line.segments if s.first <= words[0] < s.last), line.segments[0])
    if first.first == words[0] and first.last <= words[-1] and (concept := _heading(first.text)[0]) and _heading(first.text)[1] == 0:
        return concept, first.text, [n for n in words if n >= first.last]
    low = page.words[words[0]]
    if (round(low.y1 - low.y0), round(low.x0 / 4)) in styles and len(words) <= 4 and not any(c.isdecimal() for c in text) and text[0].isupper():
        return "other", text, []
    return "", "", []


def _styles(page: Page) -> set[tuple[int, int]]:
    """Height and left edge of the headings that are known, where these are larger than the usual print."""
    heights = sorted(word.y1 - word.y0 for word in page.words)
    usual = heights[len(heights) // 2] if heights else 0.0
    found = set()
    for line in page.lines:
        for segment in line.segments:
            low = page.words[segment.first]
            if _heading(segment.text)[0] and low.y1 - low.y0 > 1.08 * usual:
                found.add((round(low.y1 - low.y0), round(low.x0 / 4)))
    return found


def _columns(page: Page) -> list[list[list[int]]]:
    """The lines of a page as lists of words; where headings stand side by side, one column after the other."""
    heads: list[float] = []
    for line in page.lines:
        named = [segment for segment in line.segments if _heading(segment.text)[0]]
        heads += [segment.x0 for segment in named]
    edges = sorted(heads)
    split = next(
        (
            edge
            for edge in reversed(edges)
            if edge > 0.28 * page.width and sum(abs(e - edge) < 12 for e in edges) >= 1 and any(e < edge - 0.2 * page.width for e in edges)
        ),
        None,
    )
    if split is None:
        return [[list(range(line.first, line.last)) for line in page.lines]]
    left, right = [], []
    for line in page.lines:
        one = [n for segment in line.segments if segment.x0 < split - 6 for n in range(segment.first, segment.last)]
        two = [n for segment in line.segments if segment.x0 >= split - 6 for n in range(segment.first, segment.last)]
        left += [one] if one else []
        right += [two] if two else []
    return [left, right]


def _heading(text: str) -> tuple[str, int]:
    """The concept of a heading and how many words stand after it on its line; nothing for other lines."""
    bare = text.strip(" :.•|-–")
    words = bare.split()
    if not words or not bare[0].isalpha():
        return "", 0
    whole = words_of(bare)
    for concept, at, length in concepts_in(bare):
        if concept in SECTIONS and at == 0:
            if length == len(whole) and len(whole) <= 5:
                return concept, 0
            if len(whole) <= 6 and len(words) <= 6 and length >= len(whole) - 2 and (bare.isupper() or length / len(whole) >= 0.5):
                return concept, 0
            count = _printed_words(words, length)
            if count < len(words) and (words[count - 1].endswith(":") or (text.find("   ") > 0)):
                return concept, len(words) - count
    spaced = bare.replace(" ", "")
    if bare.isupper() and len(words) >= 4 and all(len(word) <= 2 for word in words):
        return _heading(spaced.capitalize())
    return "", 0


def _printed_words(words: Sequence[str], length: int) -> int:
    """How many printed words the first folded words of a text take."""
    taken = 0
    for count, word in enumerate(words, 1):
        taken += len(words_of(word))
        if taken >= length:
            return count
    return len(words)


def list_concept(name: str, fields: Sequence[Field], about: str) -> str:
    """Which section a list is of, by its name, description and fields."""
    own = {concept_of(each) for each in fields}
    said = [concept for text in (name.replace("_", " "), about) for concept, _, _ in concepts_in(text) if concept in SECTIONS]
    if fields and not own & {"job title", "employer", "degree", "school", "language", "level", "finished", "begin", "end"}:
        return ""
    if said:
        return said[0]
    if own & {"degree", "school"}:
        return "education"
    if own & {"job title", "employer"}:
        return "work"
    return "languages" if own & {"language", "level"} else ""


def rows_of_another_section(name: str, fields: Sequence[Field], about: str, rows: Sequence[Any], index: Index) -> set[int]:
    """The rows of a list of posts or schools of which a text stands only under the heading of something else, such as voluntary work among
    paid work."""
    concept = list_concept(name, fields, about)
    texts = [each.name for each in fields if each.kind == "text" and each.copied]
    wanted = _LEFT_OUT.sub("", about)
    if concept not in _OTHERS or "voluntary" in {each for each, _, _ in concepts_in(wanted)} or not texts:
        return set()
    sections = index.once("sections by line", _by_line)
    held = [[_sections_of(row, name, sections, index) for name in texts] for row in rows]
    if not any(concept in each for row in held for each in row):
        return set()
    return {number for number, row in enumerate(held) if any(each and each <= _OTHERS[concept] for each in row)}


_LEFT_OUT = re.compile(
    r"\b(?:no|not|without|except|excluding|ohne|keine?|nicht|sans|hors|pas de|sin|salvo|excepto|no incluye|senza|escluse?|zonder|geen|behalve|sem|exceto|uden|utan|bez)\b[^.;]*",
    re.IGNORECASE,
)
_OTHERS = {"work": frozenset(["voluntary", "education", "skills", "languages"]), "education": frozenset(["work", "voluntary", "skills", "languages"])}


def _by_line(index: Index) -> dict[tuple[int, int], str]:
    """The section of each word of a document, by page and number."""
    return {(page.number, word): part.concept for part in parts(index) for page, words in part.lines for word in words}


def _sections_of(row: Any, name: str, sections: Mapping[tuple[int, int], str], index: Index) -> frozenset[str]:
    """The sections in which a text of a row stands."""
    value = row.get(name) if isinstance(row, dict) else None
    return frozenset(sections.get((place.page, place.words[0]), "") for place in index.find_text(str(value))) if value else frozenset()
