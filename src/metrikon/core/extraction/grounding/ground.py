"""Grounding: for each value of a record, the place in the document that supports it.

A value is searched under all the ways it can be written. Of several places the one closest to a
label of its field is taken; in a list, the one in the table row that holds most of the row's
values. `sure` is the reader's certainty of the words, lowered where the choice was open:

    sure = least certainty of the words × 1 when exact, 0.8 within a word
           × 1 when the place is the only one or stands by its label, 0.85 when it was one of several
    and 0.5 for a date whose order of day and month the document leaves open, 0.3 for words crossed out.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date
from decimal import Decimal
from functools import lru_cache
from typing import Any

from metrikon.core.documents.model import Table, Word, words_box
from metrikon.core.extraction.grounding.reckoned import reckon_missing
from metrikon.core.extraction.grounding.support import supported
from metrikon.core.extraction.indexing.forms import FORMS, written, year_places
from metrikon.core.extraction.indexing.index import Index, Outside, Place, RowIndex, has_digit, squeezed
from metrikon.core.extraction.indexing.placed import is_share
from metrikon.core.records.evidence import MISSING, Evidence
from metrikon.core.records.meaning import a_sum
from metrikon.core.records.pointers import leaves, shape
from metrikon.core.records.types import Field, RecordType
from metrikon.core.values.numbers import CURRENCY_SIGNS

WITHIN_WORD, ONE_OF_SEVERAL, OPEN_DATE, CROSSED_OUT = 0.8, 0.85, 0.5, 0.3


def ground(
    kind: RecordType, record: dict[str, Any], index: Index, given: Mapping[str, Place] | None = None, aside: tuple[Table, ...] = ()
) -> dict[str, Evidence]:
    """Evidence for every leaf of `record`. `given`: places that the reader itself named, tried first. `aside`: tables in which figures are looked for last."""
    outside = index.outside(aside) if aside else None
    labels = index.once("labels", _Labels)
    rows = {pointer: _row_places(kind, pointer, record, index) for pointer in kind.lists}
    found: dict[str, Evidence] = {}
    for pointer, value in leaves(record):
        field = kind.by_shape.get(shape(pointer))
        if field is None or value is None:
            continue
        place_given = (given or {}).get(pointer)
        in_row = _in_row(rows, pointer, field, value)
        if place_given is not None and _holds(field, value, place_given, index):
            found[pointer] = _evidence(index, place_given, 1.0)
        elif in_row is not None:
            found[pointer] = _evidence(index, in_row, 1.0)
        else:
            found[pointer] = _anywhere(field, value, index, labels, outside)
    reckon_missing(kind, record, found, index)
    return found


def places(field: Field, value: Any, index: Index, outside: Outside | None = None) -> list[Place]:
    """Every place where a value of a field stands, in any of its forms; of figures those `outside` some tables first."""
    if field.kind == "date" and isinstance(value, str):
        try:
            day = date.fromisoformat(value)
        except ValueError:
            return []
        return outside.find_date(day) if outside else index.dates.get(day, [])
    if isinstance(value, bool):
        return []
    if isinstance(value, Decimal | int):
        number = Decimal(value)
        found = (
            (outside.find_number(number) or outside.find_number(-number))
            if outside
            else (index.numbers.get(number) or index.numbers.get(-number, []))
        )
        found = [*found, *year_places(str(number), index)] if 1900 <= number < 2100 else found
        return [place for place in found if not is_share(place, index)] if found and a_sum(field) else found
    if field.kind in ("choice", "title", "currency"):
        return [place for word in _signs(field, str(value)) for place in _sign_places(word, index)]
    if field.kind in FORMS:
        return written(field.kind, str(value), index)
    return index.find_text(str(value))


def stands(field: Field, value: Any, index: Index) -> bool:
    """Whether a value of a field is supported by the document in any way."""
    return bool(places(field, value, index)) or supported(field, value, index) is not None


def _signs(field: Field, value: str) -> list[str]:
    """The words and marks that stand for a choice or a currency, in the order given."""
    if field.kind == "currency":
        return [value, *(sign for sign, code in CURRENCY_SIGNS.items() if code == value)]
    return [*(field.ours.get("means", {}).get(value) or ()), value]


def _sign_places(sign: str, index: Index) -> list[Place]:
    if squeezed(sign):
        found = [place for place in index.find_text(sign) if place.exact]
        if found or len(sign) != 3 or not sign.isupper():
            return found
    segments = [(page, s) for page in index.document.pages for line in page.lines for s in line.segments if sign in s.text]
    return [Place(page.number, (n,)) for page, s in segments for n in range(s.first, s.last) if sign in page.words[n].text]


def _holds(field: Field, value: Any, place: Place, index: Index) -> bool:
    """Whether the words at a place do carry the value."""
    if place.page not in index.pages or not place.words:
        return False
    words = set(place.words)
    return any(found.page == place.page and words & set(found.words) for found in places(field, value, index)) or (
        squeezed(str(value)) != "" and squeezed(str(value)) == squeezed(index.quote(place))
    )


def _anywhere(field: Field, value: Any, index: Index, labels: _Labels, outside: Outside | None = None) -> Evidence:
    candidates = places(field, value, index, outside)
    if not candidates:
        return supported(field, value, index) or MISSING
    candidates = [place for place in candidates if not _struck(index, place)] or candidates
    if field.kind in ("choice", "title", "currency"):
        best = max(candidates[:40], key=lambda place: (_height(index, place), -place.page))
        return _evidence(index, best, 1.0, "sign")
    if len(candidates) == 1:
        return _evidence(index, candidates[0], 1.0)
    nearness = {place: labels.nearness(field, place) for place in candidates[:200]}
    best = max(nearness, key=lambda place: (nearness[place], place.exact, -place.page))
    same = {squeezed(index.quote(place)) for place in nearness if place.exact}
    clear = nearness[best] > 0 or (len(same) == 1 and field.kind == "text")
    return _evidence(index, best, 1.0 if clear else ONE_OF_SEVERAL)


def _struck(index: Index, place: Place) -> bool:
    words = index.pages[place.page].words
    return any(words[n].struck for n in place.words)


def _height(index: Index, place: Place) -> float:
    word = index.pages[place.page].words[place.words[0]]
    return round(word.y1 - word.y0, 1) if place.exact else 0.0


def _evidence(index: Index, place: Place, factor: float, how: str = "printed") -> Evidence:
    page = index.pages[place.page]
    sure = read_as([page.words[n] for n in place.words]) * factor
    if not place.exact:
        sure *= OPEN_DATE if index.day_first is None and _is_date(index, place) else WITHIN_WORD
    if _struck(index, place):
        sure *= CROSSED_OUT
    return Evidence(how, place.page, words_box(page, place.words), index.quote(place), round(sure, 3))


def read_as(words: Sequence[Word]) -> float:
    """How surely some words were read: the least of those that hold figures; of the others the mean by their letters.

    One sign of a long text that a reader was unsure of makes the text no other; one figure makes another number of it.
    """
    figured = [word.sure for word in words if has_digit(word.text)]
    plain_words = [word for word in words if not has_digit(word.text)]
    letters = sum(len(word.text) for word in plain_words)
    mean = sum(word.sure * len(word.text) for word in plain_words) / letters if letters else 1.0
    return min([mean, *figured])


def _is_date(index: Index, place: Place) -> bool:
    return any(place in found for found in index.dates.values())


class _Labels:
    """Where the labels of fields stand, looked up once a field."""

    def __init__(self, index: Index) -> None:
        self.index = index
        self._places: dict[str, list[Place]] = {}

    def nearness(self, field: Field, place: Place) -> float:
        """1 beside a label on the same line, 0.7 close below one, 0 elsewhere; longer labels count more."""
        if field.shape not in self._places:
            found = [p for label in field.labels for p in self.index.find_text(label) if p.exact]
            self._places[field.shape] = found[:60]
        page = self.index.pages[place.page]
        best = 0.0
        for label in self._places[field.shape]:
            if label.page != place.page or set(label.words) & set(place.words):
                continue
            best = max(best, _near(page.words[label.words[0]].box, page.words[place.words[0]].box) * (1 + len(label.words) / 50))
        return best


def _near(label: Sequence[float], value: Sequence[float]) -> float:
    height = max(1.0, label[3] - label[1])
    level = min(label[3], value[3]) - max(label[1], value[1]) > 0.4 * height
    if level and value[0] > label[0]:
        return 1.0 - min(0.2, (value[0] - label[0]) / 5000)
    below = 0 < value[1] - label[1] < 2.6 * height and abs(value[0] - label[0]) < 6 * height
    return 0.7 if below else 0.0


def by_label(field: Field, value: Any, index: Index) -> bool:
    """Whether a value stands beside or below one of its field's labels."""
    labels = index.once("labels", _Labels)
    return any(labels.nearness(field, place) > 0 for place in places(field, value, index)[:40])


def _row_places(kind: RecordType, pointer: str, record: dict[str, Any], index: Index) -> dict[int, RowIndex]:
    """For each row of the list, the table row that holds most of its values (rows stay in order)."""
    rows = record.get(pointer.strip("/")) if pointer.count("/") == 1 else None
    if not isinstance(rows, list):
        return {}
    fields = kind.lists[pointer]
    best: dict[int, RowIndex] = {}
    for table in index.document.tables:
        found = _aligned(fields, rows, table, index)
        if len(found) > len(best):
            best = found
    return best


def _aligned(fields: Sequence[Field], rows: list[Any], table: Table, index: Index) -> dict[int, RowIndex]:
    indexed = [index.row(cells) for cells in table.rows]
    found: dict[int, RowIndex] = {}
    at = 0
    for number, row in enumerate(rows):
        wanted = _row_forms(fields, row)
        if not wanted:
            continue
        best, score = -1, 0
        for place in range(at, min(at + 12, len(indexed))):
            holds = indexed[place].holds
            hits = sum(1 for form in wanted if holds(form))
            if hits > score:
                best, score = place, hits
            if score == len(wanted):
                break
        if best >= 0 and score * 2 > len(wanted):
            found[number] = indexed[best]
            at = best + 1
    return found


def _row_forms(fields: Sequence[Field], row: Any) -> list[object]:
    if not isinstance(row, dict):
        return []
    values = [row.get(field.name) for field in fields]
    return [v if isinstance(v, Decimal | int) else squeezed(str(v)) for v in values if v is not None and v != ""]


def _in_row(rows: dict[str, dict[int, RowIndex]], pointer: str, field: Field, value: Any) -> Place | None:
    head, position, tail = _parts(pointer)
    row = rows.get(head, {}).get(position)
    if row is None or not tail:
        return None
    figure = isinstance(value, Decimal | int) and not isinstance(value, bool)
    hits = row.numbers.get(value, []) if figure else row.find(squeezed(str(value)))
    if len(hits) < 2:
        return hits[0] if hits else None
    # the same figure may stand in several cells of a row: amounts stand furthest right, quantities left
    return max(hits, key=lambda p: (p.exact, p.words[-1])) if field.shape.endswith("amount") else min(hits, key=lambda p: (not p.exact, p.words[0]))


@lru_cache(maxsize=8192)
def _parts(pointer: str) -> tuple[str, int, str]:
    """The pointer of the list, the position in it, and the rest; -1 outside lists."""
    position = next((part for part in pointer.split("/") if part.isdecimal()), "")
    head, _, tail = pointer.partition(f"/{position}/") if position else ("", "", "")
    return head, int(position or -1), tail
