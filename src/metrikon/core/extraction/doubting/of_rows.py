"""Whether the values of a list belong to their rows: in the lines of their row, and in the column of their field."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from itertools import pairwise
from typing import Any

from metrikon.core.documents.model import words_box
from metrikon.core.extraction.grounding.ground import places
from metrikon.core.extraction.grounding.hours import hours_at
from metrikon.core.extraction.grounding.nothing import noughts
from metrikon.core.extraction.indexing.index import Index, Place, squeezed
from metrikon.core.extraction.indexing.placed import said_of
from metrikon.core.records.findings import Finding
from metrikon.core.records.manner import COPIED, DECIDED
from metrikon.core.records.meaning import concept_of
from metrikon.core.records.pointers import leaves, shape
from metrikon.core.records.types import Field, RecordType

MOST_PLACES = 60  # of one value that are looked at
SHORTEST_HEAD = 3  # letters of a head that names a row
NEAR = 6  # lines within which the values of one row stand, at most
ENOUGH = 0.96  # of the values that wider bands would hold
COLUMN = 0.75  # share of rows whose values of a field stand under each other, from which the others are doubted


@dataclass
class _Seen:
    """One value of a row with the places where it may stand, as (line, place) over the whole document."""

    pointer: str
    field: Field
    value: Any
    at: list[tuple[int, Place]]


def of_rows(kind: RecordType, pointer: str, rows: Sequence[Any], index: Index) -> Iterator[Finding]:
    """Values that stand outside the lines of their row, and figures that stand in another column than those of the other rows."""
    lines = index.once("line numbers", _line_numbers)
    seen = [_seen(kind, pointer, number, row, index, lines) for number, row in enumerate(rows)]
    if index.document.sentences or _side_by_side(seen, index):
        return  # what is said has no rows: a name is said once, and what belongs to it is said all over
    apart = _numbering(seen) | columns_of_rows(seen, index)
    bands = _bands(seen)
    if sum(band is not None for band in bands) < 2:
        return
    order = [band for band in bands if band is not None]
    if order != sorted(order):
        return  # the rows stand in another order, or beside each other
    own: dict[str, _Seen] = {}
    for number, values in enumerate(seen):
        band = bands[number]
        if band is None:
            continue
        before = next((bands[n][1] for n in range(number - 1, -1, -1) if bands[n] is not None), -1)  # type: ignore[index]
        after = next((bands[n][0] for n in range(number + 1, len(bands)) if bands[n] is not None), len(lines) + 1)  # type: ignore[index]
        low, high = min(before + 1, band[0]), max(after - 1, band[1])
        if before == -1:
            low = max(low, band[0] - 2)
        if after == len(lines) + 1:
            high = min(high, band[1] + 2)
        for each in values:
            inside = [(line, place) for line, place in each.at if low <= line <= high]
            if (
                not inside
                and each.at
                and each.value != 1
                and each.pointer not in apart
                and not _for_several(each, seen)
                and not _above_all(each, seen, bands)
            ):
                yield Finding(
                    "of another row", "stop", f"{kind.titled(each.pointer)} {each.value!s} stands outside the lines of its row.", (each.pointer,)
                )
            elif inside:
                own[each.pointer] = _Seen(each.pointer, each.field, each.value, inside)
        yield from _twice_in_a_row(kind, [own[each.pointer] for each in values if each.pointer in own], index)
    for found in _columns(kind, list(own.values()), index):
        if not _of_one_piece(rows, found.fields[0]):
            yield found


def _side_by_side(seen: Sequence[Sequence[_Seen]], index: Index) -> bool:
    """Whether the rows stand beside each other as columns of a page: what stands only once of each has a stretch of the page's width of its own."""
    stretches = []
    for row in seen:
        edges = [_edges(index, each.at[0][1]) for each in row if len(each.at) == 1]
        if len(edges) > 1:
            stretches.append((min(low for low, _ in edges), max(high for _, high in edges)))
    apart = all(one[1] < two[0] for one, two in pairwise(stretches))
    return len(stretches) > 1 and apart


_ONLY_YEAR = re.compile(r"(?:19|20)\d\d")


def _named_once(seen: _Seen, index: Index) -> bool:
    """Whether the line of a year names no other."""
    lines = [index.pages[place.page].lines[index.pages[place.page].line_of[place.words[0]]].text for _, place in seen.at]
    return all(len(set(_ONLY_YEAR.findall(line))) == 1 for line in lines)


def _twice_in_a_row(kind: RecordType, values: Sequence[_Seen], index: Index) -> Iterator[Finding]:
    """Values of one row that are the same and stand once in its lines: begin and end, a count and its amount."""
    for number, one in enumerate(values):
        for two in values[number + 1 :]:
            if one.value != two.value or one.field.kind != two.field.kind or len({place.words for _, place in (*one.at, *two.at)}) > 1:
                continue
            if one.field.kind == "month" and _ONLY_YEAR.fullmatch(str(one.value)) and _named_once(one, index):
                continue  # begun and ended in the one year that is named
            concepts = {concept_of(one.field), concept_of(two.field)}
            if one.field.kind == "amount" and ("quantity" not in concepts or one.value == 1):
                continue  # a price and its amount are the same for one piece
            message = f"{kind.titled(one.pointer)} and {two.field.title} are given the same {one.value!s}, which stands once in the row."
            yield Finding("same words", "stop", message, (one.pointer, two.pointer))


def _for_several(one: _Seen, seen: Sequence[Sequence[_Seen]]) -> bool:
    """Whether several rows have the same value, which stands fewer times: a heading over them, a rate for all."""
    given = [each for row in seen for each in row if each.field is one.field]
    same = sum(1 for each in given if each.value == one.value)
    return (same >= 3 or same == len(given) > 1) and len({line for line, _ in one.at}) < same


def _above_all(one: _Seen, seen: Sequence[Sequence[_Seen]], bands: Sequence[tuple[int, int] | None]) -> bool:
    """Whether a text is given for several rows and stands in none of their lines: who is addressed, what a heading over them says."""
    same = sum(1 for row in seen for each in row if each.field is one.field and each.value == one.value)
    within = any(band is not None and band[0] <= line <= band[1] for line, _ in one.at for band in bands)
    return isinstance(one.value, str) and same > 1 and not within


def _numbering(seen: Sequence[Sequence[_Seen]]) -> set[str]:
    """The values of a field that numbers the rows one after the other."""
    given: dict[str, list[_Seen]] = {}
    for row in seen:
        for each in row:
            given.setdefault(each.field.shape, []).append(each)
    numbering = [
        values for values in given.values() if len(values) == len(seen) > 2 and [each.value for each in values] == list(range(1, len(seen) + 1))
    ]
    return {each.pointer for values in numbering for each in values}


def columns_of_rows(seen: Sequence[Sequence[_Seen]], index: Index) -> set[str]:
    """Values of rows that are the columns of a table: a head for each row is a part of one of its texts, and the value stands under it."""
    found: set[str] = set()
    for table in index.document.tables:
        heads = [squeezed(cell.text) for cell in table.header]
        at = [_head_of(row, heads) for row in seen]
        told = [column for column in at if column is not None]
        if len(told) < 2 or len(set(told)) < len(told):
            continue
        for row, column in zip(seen, at, strict=True):
            if column is not None:
                under = {(cells[column].page, word) for cells in (table.header, *table.rows) if column < len(cells) for word in cells[column].words}
                found |= {each.pointer for each in row if any((place.page, word) in under for _, place in each.at for word in place.words)}
                found |= {each.pointer for each in row if isinstance(each.value, str) and heads[column] in map(squeezed, each.value.split())}
    return found


def _head_of(row: Sequence[_Seen], heads: Sequence[str]) -> int | None:
    """The column whose head one of a row's texts is, or has as its word; None where that is not just one."""
    texts = [each.value for each in row if isinstance(each.value, str)]
    words = {squeezed(part) for text in texts for part in (text, *text.split())}
    fit = [at for at, head in enumerate(heads) if len(head) >= SHORTEST_HEAD and head in words]
    return fit[0] if len(fit) == 1 else None


def _line_numbers(index: Index) -> dict[tuple[int, int], int]:
    """A number for each line of the document, by page and line."""
    every = ((page.number, line) for page in index.document.pages for line in range(len(page.lines)))
    return {at: number for number, at in enumerate(every)}


def _seen(kind: RecordType, pointer: str, number: int, row: Any, index: Index, lines: Mapping[tuple[int, int], int]) -> list[_Seen]:
    found = []
    for inner, value in leaves(row) if isinstance(row, dict) else ():
        field = kind.by_shape.get(f"{pointer}/*{shape(inner)}")
        if field is None or value is None or isinstance(value, bool) or field.manner == DECIDED:
            continue
        spots = places(field, value, index)
        spots = [*spots, *_in_words(field, value, index, bool(spots))]
        at = [(lines[(place.page, index.pages[place.page].line_of[place.words[0]])], place) for place in spots[:MOST_PLACES]]
        found.append(_Seen(f"{pointer}/{number}{inner}", field, value, sorted(at, key=lambda each: each[0])))
    return found


def _in_words(field: Field, value: Any, index: Index, printed: bool) -> list[Place]:
    """Where a number is said in words, a nought by a word such as "free", a time as a bare hour; nothing of talks, which have no rows."""
    if index.document.sentences:
        return []
    if isinstance(value, Decimal | int):
        said = [heard.place for heard in said_of(index).numbers.get(abs(Decimal(value)), ())] if printed else []
        return [*said, *(noughts(index) if value == 0 else ())]
    return hours_at(value, index) if field.kind == "time" and isinstance(value, str) and _CLOCK.fullmatch(value) else []


_CLOCK = re.compile(r"\d\d:\d\d(?::\d\d)?")


def _bands(seen: Sequence[Sequence[_Seen]]) -> list[tuple[int, int] | None]:
    """For each row the lines on which it stands: as few for all rows as hold nearly as many values as more would."""
    most = [_band(each, NEAR) for each in seen]
    wanted = ENOUGH * sum(held for held, _ in most) - 1
    for near in range(NEAR):
        found = [_band(each, near) for each in seen]
        if sum(held for held, _ in found) >= wanted:
            most = found
            break
    made: list[tuple[int, int] | None] = []
    before = -1
    for (held, bands), each in zip(most, seen, strict=True):
        own = next((band for band in bands if band[0] > before), bands[0]) if held >= 2 else _alone(each)
        before = own[0] if own is not None else before
        made.append(own)
    return made


def _alone(values: Sequence[_Seen]) -> tuple[int, int] | None:
    """The line of a row of which only one text is found, when that stands only once."""
    lines = [each.at[0][0] for each in values if len(each.at) == 1 and isinstance(each.value, str) and len(squeezed(each.value)) > 1]
    return (lines[0], lines[0]) if lines else None


def _band(values: Sequence[_Seen], near: int) -> tuple[int, list[tuple[int, int]]]:
    """How many values of a row stand together at most, and the fewest lines, at most `near` apart, on which they do: all such places."""
    spots = sorted((line, number) for number, each in enumerate(values) for line, _ in each.at)
    best, places = (0, 0), [(0, 0)]
    for start, (line, _) in enumerate(spots):
        held: set[int] = set()
        for end in range(start, len(spots)):
            if spots[end][0] - line > near:
                break
            if spots[end][1] not in held:
                held.add(spots[end][1])
                score = (len(held), -(spots[end][0] - line))
                if score > best:
                    best, places = score, []
                if score == best and (line, spots[end][0]) not in places:
                    places.append((line, spots[end][0]))
    return best[0], places


def _columns(kind: RecordType, own: Sequence[_Seen], index: Index) -> Iterator[Finding]:
    """Figures of a field that stand in another column than in most rows."""
    by_field: dict[str, list[_Seen]] = {}
    for each in own:
        if each.field.kind == "amount" and each.field.manner == COPIED:
            by_field.setdefault(each.field.shape, []).append(each)
    spots = {name: [[_edges(index, place) for _, place in each.at] for each in values] for name, values in by_field.items() if len(values) >= 3}
    columns = {name: column for name, edges in spots.items() if (column := _common(edges)) is not None}
    for name, column in columns.items():
        others = [other for key, other in columns.items() if key != name]
        for each, own_spots in zip(by_field[name], spots[name], strict=True):
            if not any(_in(spot, column) for spot in own_spots) and all(any(_in(spot, other) for other in others) for spot in own_spots):
                yield Finding(
                    "of another column",
                    "stop",
                    f"{kind.titled(each.pointer)} {each.value!s} stands in another column than in the other rows.",
                    (each.pointer,),
                )


def _of_one_piece(rows: Sequence[Any], pointer: str) -> bool:
    """Whether a row is of one piece and gives a figure twice: its price is its amount, and both are printed once."""
    _, number, name = pointer.rsplit("/", 2)
    row = rows[int(number)] if number.isdigit() and int(number) < len(rows) else None
    if not isinstance(row, Mapping):
        return False
    others = [value for key, value in row.items() if key != name and isinstance(value, Decimal | int) and not isinstance(value, bool)]
    return row.get(name) in others and 1 in others


def _edges(index: Index, place: Place) -> tuple[float, float]:
    x0, _, x1, _ = words_box(index.pages[place.page], place.words)
    return (x0, x1)


def _common(edges: Sequence[Sequence[tuple[float, float]]]) -> tuple[int, float, float] | None:
    """The edge (0 left, 1 right) and place at which the figures of most rows stand, with how far off they may be."""
    best: tuple[int, tuple[int, float, float]] | None = None
    for side in (1, 0):
        for spot in {round(each[side], 1) for row in edges for each in row}:
            wide = max(4.0, 0.02 * max(each[1] for row in edges for each in row))
            hits = sum(any(abs(each[side] - spot) <= wide for each in row) for row in edges)
            if hits >= max(2, COLUMN * len(edges)) and (best is None or hits > best[0]):
                best = (hits, (side, spot, wide))
    return best[1] if best else None


def _in(spot: tuple[float, float], column: tuple[int, float, float]) -> bool:
    side, at, wide = column
    edge = spot[1] if side else spot[0]
    return abs(edge - at) <= wide
