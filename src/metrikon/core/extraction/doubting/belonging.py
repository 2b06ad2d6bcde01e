"""Whether values belong where they were given: the same words for two fields, a value of another row, a figure of another column.

A model that mixes values up gives ones that do stand in the document. What it cannot give is a place of its own for each.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from itertools import pairwise
from typing import Any

from metrikon.core.extraction.grounding.ground import places
from metrikon.core.extraction.indexing.index import Index, Place, squeezed
from metrikon.core.extraction.indexing.measures import measured
from metrikon.core.extraction.indexing.placed import said_of
from metrikon.core.extraction.indexing.units import lines_with, unit_of
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding
from metrikon.core.records.manner import COPIED, DECIDED
from metrikon.core.records.meaning import MONEY, concept_of, label_fit
from metrikon.core.records.pointers import get, leaves, shape
from metrikon.core.records.types import Field, RecordType

SHORTEST = 4  # letters of a text that is told from others
MOST_PLACES = 60  # of one value that are looked at
MOST_ROWS = 400
NEAR = 6  # lines within which the values of one row stand, at most
ENOUGH = 0.96  # of the values that wider bands would hold
COLUMN = 0.75  # share of rows whose values of a field stand under each other, from which the others are doubted


def belonging(kind: RecordType, record: Mapping[str, Any], evidence: Mapping[str, Evidence], index: Index, cells: set[str]) -> list[Finding]:
    """Findings about values that stand where another value stands. `cells`: pointers of values that are cells of a table as they stand."""
    found = list(_same_words(kind, record, evidence, index, cells))
    claimed = _claimed(evidence)
    found += _day_of_another(kind, record, evidence, index)
    found += _end_of_a_span(kind, record, evidence)
    found += _one_place_for_two(kind, record, claimed)
    found += _one_number_for_two(kind, record, evidence, index)
    found += _without_cents(kind, record, evidence, index)
    found += _taken_by_rows(kind, record, evidence, index, claimed)
    found += _other_units(kind, record, evidence, index)
    for pointer in kind.lists:
        rows = record.get(pointer[1:]) if pointer.count("/") == 1 else None
        if isinstance(rows, list) and 1 < len(rows) <= MOST_ROWS and not _all_cells(pointer, rows, cells):
            found += _rows(kind, pointer, rows, index)
    told: set[tuple[str, ...]] = set()
    return [each for each in found if each.fields not in told and not told.add(each.fields)]  # type: ignore[func-returns-value]


def _all_cells(pointer: str, rows: Sequence[Any], cells: set[str]) -> bool:
    """Whether every value of a list is a cell of a table as it stands."""
    return all(at in cells for at, value in leaves(rows, pointer) if value is not None)


def _same_words(kind: RecordType, record: Mapping[str, Any], evidence: Mapping[str, Evidence], index: Index, cells: set[str]) -> Iterator[Finding]:
    """Texts that are given for several fields, or several times in a list, and stand fewer times in the document."""
    claims: dict[str, list[str]] = {}
    for pointer, value in leaves(record):
        field = kind.by_shape.get(shape(pointer))
        if field is None or not isinstance(value, str) or field.manner == DECIDED or field.kind == "currency":
            continue
        if evidence.get(pointer, _NOWHERE).how in ("person", "list", "default"):
            continue
        wanted = squeezed(value)
        if len(wanted) >= SHORTEST and field.kind not in ("month", "date", "unit"):
            claims.setdefault(wanted, []).append(pointer)
    for wanted, pointers in claims.items():
        if len(pointers) < 2:
            continue
        if len({shape(pointer) for pointer in pointers}) == 1 and "/*/" in shape(pointers[0]):
            continue  # the same in several rows: whether it belongs there, the rows say
        if all(pointer in cells or kind.by_shape[shape(pointer)].kind == "time" for pointer in pointers) or _names_a_row(kind, pointers):
            continue
        if _times(wanted, index) < len(pointers):
            names = " and ".join(dict.fromkeys(kind.titled(pointer) for pointer in pointers[:3]))
            yield Finding("same words", "stop", f"{names} are given the same words, which stand only once in the document.", tuple(pointers))


def _names_a_row(kind: RecordType, pointers: Sequence[str]) -> bool:
    """Whether one field outside of rows says which row is meant, by what both are: the present employer among posts, the chair among people."""
    fields = [kind.by_shape[shape(pointer)] for pointer in pointers]
    outside = [each for each in fields if "/*" not in each.shape]
    concepts = {concept_of(each) for each in fields}
    return len(fields) == 2 and len(outside) == 1 and len(concepts) == 1 and concepts != {""}


def _day_of_another(kind: RecordType, record: Mapping[str, Any], evidence: Mapping[str, Evidence], index: Index) -> Iterator[Finding]:
    """Days of fields that may have none, given where another field has its day, in a line that says nothing of them."""
    days: dict[str, list[Field]] = {}
    for each in kind.header:
        value = record.get(each.name) if each.shape.count("/") == 1 and each.kind == "date" and "labels" not in each.ours else None
        if isinstance(value, str) and evidence.get(each.shape, _NOWHERE).how == "printed":
            days.setdefault(value, []).append(each)
    for value, fields in days.items():
        spots = places(fields[0], value, index) if len(fields) > 1 and not index.document.sentences else []
        if not spots or len({(spot.page, spot.words[-1]) for spot in spots}) >= len(fields):
            continue
        said = [index.pages[spot.page].lines[index.pages[spot.page].line_of[spot.words[0]]].text for spot in spots]
        fits = [max(label_fit(each, _FIGURED.sub(" ", text)) for text in said) for each in fields]
        for each, fit in zip(fields, fits, strict=True):
            other = next((one for one in fields if one is not each and (not one.nullable or label_fit(one, said[0]))), None)
            if each.nullable and fit == 0 and other is not None:
                message = f"{each.title} is given as {value}, which stands only where {other.title} stands."
                yield Finding("same words", "stop", message, (each.shape, other.shape))


def _end_of_a_span(kind: RecordType, record: Mapping[str, Any], evidence: Mapping[str, Evidence]) -> Iterator[Finding]:
    """Two days that are the same and stand on one line that names another day, too: one of them is its other end."""
    claims: dict[tuple[str, int, Any], list[Field]] = {}
    for each in kind.header:
        known = evidence.get(each.shape, _NOWHERE)
        if each.kind in ("date", "moment") and known.how == "mapped" and known.box is not None and len(set(_DAYS.findall(known.quote))) > 1:
            claims.setdefault((str(get(record, each.shape)), known.page, known.box), []).append(each)
    for (value, _, _), fields in claims.items():
        if len(fields) > 1:
            message = f"{fields[0].title} and {fields[1].title} are given as {value}, on a line that names another day, too."
            yield Finding("same words", "stop", message, tuple(each.shape for each in fields))


_DAYS = re.compile(r"(?<!\d)\d{1,2}(?!\d)")
_FIGURED = re.compile(r"\S*\d\S*")


def _times(wanted: str, index: Index) -> int:
    return max(1, len({(place.page, place.words) for page in index.texts for place in page.find(wanted)}) + _in_facts(wanted, index))


def _in_facts(wanted: str, index: Index) -> int:
    return sum(1 for fact in index.document.facts if not fact.words and wanted in squeezed(fact.value))


_NOWHERE = Evidence("")


def _claimed(evidence: Mapping[str, Evidence]) -> dict[tuple[int, Any], list[str]]:
    """Which values have their evidence in the same box."""
    found: dict[tuple[int, Any], list[str]] = {}
    for pointer, each in evidence.items():
        if each.box is not None and each.how in ("printed", "said", "mapped"):
            found.setdefault((each.page, each.box), []).append(pointer)
    return found


def _one_place_for_two(kind: RecordType, record: Mapping[str, Any], claimed: Mapping[tuple[int, Any], list[str]]) -> Iterator[Finding]:
    """A count and an amount of money, or numbers of different units, that are given the same figure of the document."""
    for (page, _), pointers in claimed.items():
        fields = [kind.by_shape[pointer] for pointer in pointers if pointer in kind.by_shape and kind.by_shape[pointer].kind == "amount"]
        if len(fields) < 2 or record.get(fields[0].name) in (None, 0, 1):
            continue
        sorts = {_sort(each) for each in fields}
        if len(sorts) > 1 and None not in sorts:
            names = " and ".join(each.title for each in fields[:3])
            yield Finding(
                "same words", "stop", f"{names} are given the same figure, which stands once on page {page}.", tuple(each.shape for each in fields)
            )


_SUMS = {"gross", "net", "balance", "paid", "line amount", ""}


def _one_number_for_two(kind: RecordType, record: Mapping[str, Any], evidence: Mapping[str, Evidence], index: Index) -> Iterator[Finding]:
    """An amount that is given for two fields and stands once, unless both are sums, which are often the same."""
    claims: dict[Decimal, list[Field]] = {}
    for each in kind.header:
        value = record.get(each.name) if each.shape.count("/") == 1 and each.kind == "amount" and "labels" not in each.ours else None
        stands = evidence.get(each.shape, _NOWHERE).how in ("printed", "said")
        if isinstance(value, Decimal | int) and not isinstance(value, bool) and value not in (0, 1) and stands:
            claims.setdefault(abs(Decimal(value)), []).append(each)
    for value, fields in claims.items():
        if len(fields) < 2 or all(concept_of(each) in _SUMS for each in fields):
            continue
        spots = {(place.page, place.words[-1]) for place in places(fields[0], value, index)[:MOST_PLACES]}
        if len(spots) < len(fields):
            names = " and ".join(each.title for each in fields[:3])
            message = f"{names} are given the same amount {value}, which stands fewer times in the document."
            yield Finding("same words", "stop", message, tuple(each.shape for each in fields))


def _without_cents(kind: RecordType, record: Mapping[str, Any], evidence: Mapping[str, Evidence], index: Index) -> Iterator[Finding]:
    """A price in a row that is printed without cents, where those of all other rows are printed with them: it is another number of its row."""
    for pointer, fields in kind.lists.items():
        given = record.get(pointer[1:]) if pointer.count("/") == 1 else None
        rows = given if isinstance(given, list) else []
        for each in fields:
            if each.kind != "amount" or concept_of(each) not in ("unit price", "line amount"):
                continue
            quotes = {n: found.quote for n in range(len(rows)) if (found := evidence.get(f"{pointer}/{n}/{each.name}")) and found.how == "printed"}
            bare = [n for n, quote in quotes.items() if not _CENTS.search(quote)]
            spots = places(each, rows[bare[0]][each.name], index)[:MOST_PLACES] if len(bare) == 1 and len(quotes) > 1 else []
            if spots and not any(_CENTS.search(index.quote(spot)) for spot in spots):
                at = f"{pointer}/{bare[0]}/{each.name}"
                message = f"{kind.titled(at)} is printed as {quotes[bare[0]]}, without cents, as it is in no other row."
                yield Finding("of another column", "stop", message, (at,))


_CENTS = re.compile(r"[.,]\d{2,4}(?!\d)")


def _sort(field: Field) -> str | None:
    """Whether a number counts money, a unit, or things; None when that is open."""
    if concept_of(field) in MONEY:
        return "money"
    if unit := unit_of(field):
        return unit
    return "count" if "number" not in field.types else None


def _taken_by_rows(
    kind: RecordType, record: Mapping[str, Any], evidence: Mapping[str, Evidence], index: Index, claimed: Mapping[tuple[int, Any], list[str]]
) -> Iterator[Finding]:
    """Numbers outside of rows that stand only where a row has its own."""
    for (page, _), pointers in claimed.items():
        rows = [pointer for pointer in pointers if "/*/" in shape(pointer)]
        for pointer in pointers if rows else ():
            field = kind.by_shape.get(pointer)
            value = record.get(pointer[1:])
            if field is None or "number" not in field.types or isinstance(value, bool) or not isinstance(value, Decimal | int):
                continue
            free = [place for place in places(field, value, index)[:MOST_PLACES] if (place.page, _box(index, place)) not in claimed]
            if not free:
                message = f"{kind.titled(pointer)} {value!s} stands only where {kind.titled(rows[0])} stands (page {page})."
                yield Finding("of a row", "stop", message, (pointer,))


def _other_units(kind: RecordType, record: Mapping[str, Any], evidence: Mapping[str, Evidence], index: Index) -> Iterator[Finding]:
    """Numbers of days, per cents and the like that stand by no such word, though another number does."""
    for field in kind.header:
        value = record.get(field.name) if field.shape.count("/") == 1 else None
        unit = unit_of(field)
        if (
            unit is None
            or not isinstance(value, Decimal | int)
            or isinstance(value, bool)
            or evidence.get(field.shape, _NOWHERE).how not in ("printed", "said")
        ):
            continue
        lines = lines_with(index, unit)
        spots = [(place.page, index.pages[place.page].line_of[place.words[0]]) for place in places(field, value, index)[:MOST_PLACES]]
        measures = measured(index, unit, Decimal(value)) or said_of(index).numbers.get(Decimal(value))
        if lines and spots and not measures and not any(spot in lines for spot in spots):
            yield Finding(
                "of another unit",
                "stop",
                f"{kind.titled(field.shape)} {value!s} stands by no word for {unit}, as another number does.",
                (field.shape,),
            )


def _box(index: Index, place: Place) -> Any:
    from metrikon.core.documents.model import words_box

    return words_box(index.pages[place.page], place.words)


@dataclass
class _Seen:
    """One value of a row with the places where it may stand, as (line, place) over the whole document."""

    pointer: str
    field: Field
    value: Any
    at: list[tuple[int, Place]]


def _rows(kind: RecordType, pointer: str, rows: Sequence[Any], index: Index) -> Iterator[Finding]:
    """Values that stand outside the lines of their row, and figures that stand in another column than those of the other rows."""
    lines = index.once("line numbers", _line_numbers)
    seen = [_seen(kind, pointer, number, row, index, lines) for number, row in enumerate(rows)]
    if _side_by_side(seen, index):
        return
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
            if not inside and each.at and each.value != 1 and not _for_several(each, seen):
                yield Finding(
                    "of another row", "stop", f"{kind.titled(each.pointer)} {each.value!s} stands outside the lines of its row.", (each.pointer,)
                )
            elif inside:
                own[each.pointer] = _Seen(each.pointer, each.field, each.value, inside)
        yield from _twice_in_a_row(kind, [own[each.pointer] for each in values if each.pointer in own])
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


def _twice_in_a_row(kind: RecordType, values: Sequence[_Seen]) -> Iterator[Finding]:
    """Values of one row that are the same and stand once in its lines: begin and end, a count and its amount."""
    for number, one in enumerate(values):
        for two in values[number + 1 :]:
            if one.value != two.value or one.field.kind != two.field.kind or len({place.words for _, place in (*one.at, *two.at)}) > 1:
                continue
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
        at = [(lines[(place.page, index.pages[place.page].line_of[place.words[0]])], place) for place in places(field, value, index)[:MOST_PLACES]]
        found.append(_Seen(f"{pointer}/{number}{inner}", field, value, sorted(at, key=lambda each: each[0])))
    return found


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
    x0, _, x1, _ = _box(index, place)
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
