"""Values that a model typed a little wrong: the document's own words take their place where only one piece of print is meant.

A model has no reason to give what is almost printed but the print itself: a letter changed in a name. Other values that stand nowhere
(the year of another date, a digit group) and those that do stand in the document are put right only where the model itself was unsure
of them: a right value that was worked out looks just like a wrong one. What is corrected so is told among the changes.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Container, Iterator, Mapping
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from typing import Any

from metrikon.core.extraction.doubting.takenback import moment_put_right
from metrikon.core.extraction.grounding.grounding import put
from metrikon.core.extraction.grounding.whole_names import whole_name
from metrikon.core.extraction.indexing.aloud import meetings
from metrikon.core.extraction.indexing.index import Index, has_digit, squeezed
from metrikon.core.extraction.indexing.placed import said_of
from metrikon.core.extraction.state import State
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.meaning import concept_of
from metrikon.core.records.pointers import get, shape
from metrikon.core.records.shapes import takes
from metrikon.core.records.types import Field, RecordType
from metrikon.core.values.dates import parse_date
from metrikon.core.values.number_words import plain

Rule = Callable[["Told"], Any]


@dataclass(frozen=True)
class Told:
    """A value as it was given: its field and pointer, its evidence, and what it stands among."""

    field: Field
    pointer: str
    value: Any
    kind: RecordType
    record: Any
    evidence: Mapping[str, Evidence]
    index: Index
    today: str

    @property
    def own(self) -> Evidence:
        return self.evidence[self.pointer]


SHORTEST, LONG = 6, 15  # letters of a text that is corrected, and from which two of them may differ
MOST_WORDS = 14


def as_printed_near(field: Field, value: Any, index: Index) -> Any:
    """What the document has in the place of a value that stands nowhere in it; None when nothing, or several things, come near."""
    if isinstance(value, bool):
        return None
    if isinstance(value, Decimal | int):
        return _number(Decimal(value), index)
    if field.kind == "date" and isinstance(value, str):
        return _day(value, index)
    if isinstance(value, str) and field.copied and len(squeezed(value)) >= SHORTEST:
        return _text(value, index)
    return None


_INFLECTED = (
    "pl",
    "cs",
    "sk",
    "fi",
    "hu",
    "sv",
    "da",
    "no",
    "nb",
    "de",
    "hr",
    "sl",
    "lt",
    "lv",
    "et",
    "el",
    "ro",
)  # languages whose names have cases


def mistyped(field: Field, value: Any, index: Index) -> str | None:
    """The print that a text differs from by a letter or two; None of what was read from a picture, whose print may itself be wrong.

    In a language that has cases a word differs from its print by its end and is right.
    """
    if not isinstance(value, str) or not field.copied or len(squeezed(value)) < SHORTEST:
        return None
    if any(page.source == "ocr" for page in index.document.pages):
        return None
    found = _text(value, index)
    if found is not None and index.language in _INFLECTED and _other_form(value, found):
        return None
    return found


ENDING = 2  # letters at the end of a word that its case changes


def _other_form(one: str, two: str) -> bool:
    """Whether two texts have the same words but for their ends."""
    words = list(zip(one.split(), two.split(), strict=False))
    return len(one.split()) == len(two.split()) and all(plain(a)[: max(3, len(a) - ENDING)] == plain(b)[: max(3, len(a) - ENDING)] for a, b in words)


def month_printed(field: Field, value: Any, found: bool, index: Index) -> str | None:
    """A year with the month that is printed beside it, or without the one that is not, where the field takes both; None when it stands well."""
    pattern = field.schema.get("pattern")
    if field.kind != "month" or not isinstance(value, str) or not pattern or not (takes(pattern, "2001") and takes(pattern, "2001-02")):
        return None
    if not found:
        return value[:4] if len(value) > 4 and any(place.exact for place in index.find_text(value[:4])) else None
    if len(value) != 4:
        return None
    months = {month: spots for month, spots in said_of(index).months.items() if month.startswith(f"{value}-")}
    beside = {(spot.page, word) for spots in months.values() for spot in spots for word in spot.words}
    alone = any(place.exact and not beside & {(place.page, word) for word in place.words} for place in index.find_text(value))
    return next(iter(months)) if len(months) == 1 and not alone else None


_COUNTY = re.compile(r"\b(?:count|region|state|provin|kreis|land|bundesland|departement|kanton|canton)")
_PLACES = ("address", "town", "postcode")


def place_alone(field: Field, value: Any) -> str | None:
    """A place without what stands after it: the county of a town, a number of another kind that the next line begins with."""
    concept = concept_of(field)
    if not isinstance(value, str) or concept not in _PLACES or ", " not in value:
        return None
    kept, _, last = value.rpartition(", ")
    if _count(last) >= SHORTEST and not re.search(r"[^\W\d_]{4}", last):
        return kept
    first = value.partition(", ")[0]
    alone = concept == "town" and not has_digit(value) and not _COUNTY.search(plain(f"{field.name} {field.schema.get('description') or ''}"))
    return first if alone else None


_NAMED = re.compile(r"\b(?:nam|nom|nombre|firm|compan|soci|organi|aziend|bedrijf)")


def without_name(kind: RecordType, record: Any, field: Field, value: Any) -> str | None:
    """An address without the name before it, where that is another value of the record and the field does not ask for it."""
    if not isinstance(value, str) or concept_of(field) != "address":
        return None
    if _NAMED.search(plain(f"{field.name.replace('_', ' ')} {field.schema.get('description') or ''}")):
        return None
    first, comma, rest = value.partition(",")
    name = squeezed(first)
    if not comma or has_digit(first) or len(name) < SHORTEST or not has_digit(rest):
        return None
    others = (squeezed(str(other)) for each in kind.header if each is not field and isinstance(other := get(record, each.shape), str))
    return rest.strip() if any(name == other or (name in other and len(other) < 2 * len(name)) for other in others) else None


def month_in_row(field: Field, value: Any, pointer: str, evidence: Mapping[str, Evidence], index: Index) -> str | None:
    """A year with the month that is printed with it on the line of its row, where the field takes both; None when there is none, or several."""
    pattern = field.schema.get("pattern")
    if field.kind != "month" or not isinstance(value, str) or len(value) != 4 or "/*/" not in field.shape:
        return None
    if not pattern or not (takes(pattern, "2001") and takes(pattern, "2001-02")):
        return None
    above = pointer.rpartition("/")[0]
    beside = [each for at, each in evidence.items() if at.startswith(f"{above}/") and at != pointer and each.box and each.how == "printed"]
    lines = {(each.page, each.box[1], each.box[3]) for each in beside if each.box and not _YEAR.search(each.quote)}
    found: dict[str, float] = {}
    for month, spots in said_of(index).months.items():
        for spot in spots if month.startswith(f"{value}-") else ():
            word = index.pages[spot.page].words[spot.words[0]]
            if any(page == spot.page and word.y0 < low and high < word.y1 for page, high, low in lines):
                found[month] = word.x0
    if len(found) == 2 and concept_of(field) in (*_BEGINS, *_ENDS):
        first, last = sorted(found, key=lambda month: found[month])
        return first if concept_of(field) in _BEGINS else last
    return next(iter(found)) if len(found) == 1 else None


_BEGINS, _ENDS = ("begin", "valid from", "entry"), ("end", "valid until", "finished", "exit")
_YEAR = re.compile(r"(?:19|20)\d\d")


def moment_said(field: Field, value: Any, index: Index, today: str) -> str | None:
    """A moment of a talk with the day that is said together with its time, the last one where the talk puts it right; None when it stands well."""
    if field.kind != "moment" or not isinstance(value, str) or len(value) < 16 or not index.document.sentences:
        return None
    near = parse_date(today) if today else None
    days = {each.day for each in meetings(index, near) if each.time == value[11:16]}
    if len(days) == 1:
        return None if value[:10] in days else days.pop() + value[10:]
    return moment_put_right(value, index, near)


def _number(value: Decimal, index: Index) -> Decimal | None:
    """The one printed number with the same figures, marks aside."""
    wanted = _figures(value)
    if len(wanted) < 3:
        return None
    found = {number for number in index.numbers if _figures(number) == wanted}
    return found.pop() if len(found) == 1 else None


def _figures(value: Decimal) -> str:
    return re.sub(r"\D", "", f"{value:f}").lstrip("0").rstrip("0")


def _day(value: str, index: Index) -> str | None:
    """The one printed date of the same day and month, or with the two changed places."""
    try:
        wanted = date.fromisoformat(value)
    except ValueError:
        return None
    near = {day for day in index.dates if (day.month, day.day) == (wanted.month, wanted.day)}
    near = near or {day for day in index.dates if (day.day, day.month, day.year) == (wanted.month, wanted.day, wanted.year)}
    return near.pop().isoformat() if len(near) == 1 else None


def _text(value: str, index: Index) -> str | None:
    """The one piece of print that differs from a text by a letter, or by two where it is long; no figure is left out."""
    wanted = squeezed(value)
    most = 2 if len(wanted) >= LONG else 1
    figures = _count(wanted)
    near = (text for text, key in _pieces(value, index) if key != wanted and _off(key, wanted, most) and _count(key) >= figures)
    found = list(dict.fromkeys(near))  # in the order of the document: the same answers give the same reading in every process
    return found[0] if len({squeezed(text) for text in found}) == 1 else None


def _count(text: str) -> int:
    return sum(each.isdecimal() for each in text)


def _pieces(value: str, index: Index) -> Iterator[tuple[str, str]]:
    """Runs of as many words as a text has, one more or fewer, of about its length."""
    count, length = len(value.split()), len(squeezed(value))
    if count > MOST_WORDS:
        return
    for page in index.document.pages:
        keys = [squeezed(word.text) for word in page.words]
        for start in range(len(keys)):
            size = 0
            for end in range(start, min(len(keys), start + count + 1)):
                size += len(keys[end])
                if size > length + 2:
                    break
                if end - start + 1 >= count - 1 and abs(size - length) <= 2:
                    text = " ".join(page.words[n].text for n in range(start, end + 1)).strip(" ,;:.|·()")
                    yield text, "".join(keys[start : end + 1])


def _off(one: str, two: str, most: int) -> bool:
    """Whether two texts differ by at most so many letters changed, left out or put in (Levenshtein distance)."""
    if abs(len(one) - len(two)) > most:
        return False
    before = list(range(len(two) + 1))
    for row, a in enumerate(one, 1):
        now = [row]
        for column, b in enumerate(two, 1):
            now.append(min(before[column] + 1, now[-1] + 1, before[column - 1] + (a != b)))
        if min(now) > most:
            return False
        before = now
    return before[-1] <= most


# of values that stand in the document, and of those that do not: the first rule that gives something has it
_RULES: tuple[Rule, ...] = (
    lambda t: month_in_row(t.field, t.value, t.pointer, t.evidence, t.index),
    lambda t: month_printed(t.field, t.value, t.own.found, t.index),
    lambda t: moment_said(t.field, t.value, t.index, t.today),
    lambda t: without_name(t.kind, t.record, t.field, t.value),
    lambda t: place_alone(t.field, t.value),
    lambda t: whole_name(t.field, t.value, t.own, t.index),
    lambda t: None if t.own.found else as_printed_near(t.field, t.value, t.index),
)
_MISTYPED: tuple[Rule, ...] = (lambda t: mistyped(t.field, t.value, t.index),)  # of values that stand nowhere, whatever the model thinks of them


def put_right(
    kind: RecordType,
    record: Mapping[str, Any],
    evidence: Mapping[str, Evidence],
    index: Index,
    cells: Container[str],
    today: str,
    doubted: Callable[[str, Any], bool],
) -> dict[str, Any]:
    """Values that the print shows to be meant otherwise, by pointer, with what is meant.

    `cells`: pointers of what was taken as it stands. `doubted`: whether the model itself was unsure of the value at a pointer.
    """
    found: dict[str, Any] = {}
    for pointer, each in evidence.items():
        field = kind.by_shape.get(shape(pointer))
        if field is None or (each.found and (field.kind not in ("month", "moment", "text") or pointer in cells)):
            continue
        told = Told(field, pointer, get(record, pointer), kind, record, evidence, index, today)
        rules = _RULES if doubted(pointer, told.value) else () if told.own.found else _MISTYPED
        instead = next((given for rule in rules if (given := rule(told)) is not None), None)
        if instead is not None and instead != told.value:
            found[pointer] = instead
    return found


def retype(state: State) -> State:
    """With values put right by the print, and evidence anew where any was; each is told."""
    right = put_right(state.kind, state.record, state.evidence, state.index, state.cells, state.asking.today, state.draft.doubted)
    told = [
        f"{at}: {str(get(state.record, at))[:40]!r} does not stand so; {str(instead)[:40]!r}, which is printed, was taken."
        for at, instead in right.items()
    ]
    return put(state, right).told(told)
