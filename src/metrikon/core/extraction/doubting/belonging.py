"""Whether values belong where they were given: the same words for two fields, a value of another row, a figure of another column.

A model that mixes values up gives ones that do stand in the document. What it cannot give is a place of its own for each.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal
from typing import Any

from metrikon.core.documents.model import words_box
from metrikon.core.extraction.doubting.of_rows import of_rows
from metrikon.core.extraction.grounding.counted import asks_extreme
from metrikon.core.extraction.grounding.ground import places
from metrikon.core.extraction.indexing.index import Index, squeezed
from metrikon.core.extraction.indexing.measures import measured
from metrikon.core.extraction.indexing.placed import said_of
from metrikon.core.extraction.indexing.units import lines_with, unit_of
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding
from metrikon.core.records.manner import DECIDED
from metrikon.core.records.meaning import MONEY, a_share, akin, concept_of, label_fit
from metrikon.core.records.pointers import get, leaves, shape
from metrikon.core.records.types import Field, RecordType
from metrikon.core.values.number_words import plain

SHORTEST = 4  # letters of a text that is told from others
MOST_PLACES = 60  # of one value that are looked at
LARGEST_SHARE = 1000  # per cent that anything grows by in papers that people send
MOST_ROWS = 400


def belonging(kind: RecordType, record: Mapping[str, Any], evidence: Mapping[str, Evidence], index: Index, cells: set[str]) -> list[Finding]:
    """Findings about values that stand where another value stands. `cells`: pointers of values that are cells of a table as they stand."""
    found = list(_same_words(kind, record, evidence, index, cells))
    claimed = _claimed(evidence)
    found += _day_of_another(kind, record, evidence, index)
    found += _end_of_a_span(kind, record, evidence)
    found += _one_place_for_two(kind, record, claimed, index)
    found += _one_number_for_two(kind, record, evidence, index)
    found += _without_cents(kind, record, evidence, index)
    found += _taken_by_rows(kind, record, evidence, index, claimed)
    found += _other_units(kind, record, evidence, index)
    for pointer in kind.lists:
        rows = record.get(pointer[1:]) if pointer.count("/") == 1 else None
        if isinstance(rows, list) and 1 < len(rows) <= MOST_ROWS and not _all_cells(pointer, rows, cells):
            found += of_rows(kind, pointer, rows, index)
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
        of_lists = [pointer for pointer in pointers if shape(pointer).endswith("/*")]
        if False:
            yield Finding("same words", "stop", f"{kind.titled(of_lists[0])} is given twice in one list.", tuple(of_lists))
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
    if len(fields) == 2 and len(outside) == 1 and (len(concepts) == 1 or concepts <= _HOUSES) and concepts != {""}:
        return True
    if len(outside) == 1 and all("/*" in each.shape for each in fields if each is not outside[0]) and _CHOSEN.search(plain(outside[0].worded)):
        return True
    rows = [each for each in fields if "/*/" in each.shape]
    return len({each.shape for each in rows}) == 1 and all(_speaks_of(kind, each, rows[0]) for each in fields if each is not rows[0])


_HOUSES = frozenset(["sender", "employer", "school"])
_CHOSEN = re.compile(
    r"cho(?:ice|sen|ix|isi)|select|pick|favou?rite|gewahlt|auswahl|wahl|retenu|elegid|eleccion|scelt|gekozen|keuze|escolh|valgt|vald|wybran|wybor|vybran|current|actual|aktuell|present"
)


def _speaks_of(kind: RecordType, field: Field, of_rows: Field) -> bool:
    """Whether a field's words name the list, or the field of its rows, whose value it repeats: "current job" of "jobs"."""
    about = kind.part(field.shape[:-2]) if field.shape.endswith("/*") and "/*" not in field.shape[:-2] else field.schema
    said = f"{field.shape.replace('/', ' ')} {field.worded} {about.get('description') or ''}"
    return akin(said, f"{of_rows.shape.replace('/', ' ').replace('*', ' ')} {of_rows.worded}")


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


def _one_place_for_two(kind: RecordType, record: Mapping[str, Any], claimed: Mapping[tuple[int, Any], list[str]], index: Index) -> Iterator[Finding]:
    """A count and an amount of money, or numbers of different units, that are given the same figure of the document."""
    for (page, _), pointers in claimed.items():
        fields = [kind.by_shape[pointer] for pointer in pointers if pointer in kind.by_shape and kind.by_shape[pointer].kind == "amount"]
        if len(fields) < 2 or record.get(fields[0].name) in (None, 0, 1):
            continue
        if any(_told_elsewhere(each, get(record, each.shape), index) for each in fields):
            continue  # one is told in another unit elsewhere: "two weeks" beside "14 volunteers"
        sorts = {_sort(each) for each in fields}
        if len(sorts) > 1 and None not in sorts:
            names = " and ".join(each.title for each in fields[:3])
            yield Finding(
                "same words", "stop", f"{names} are given the same figure, which stands once on page {page}.", tuple(each.shape for each in fields)
            )


def _counts_rows(field: Field, value: Any, record: Mapping[str, Any]) -> bool:
    """Whether a whole number is how many rows a list of the record has."""
    return "integer" in field.types and any(isinstance(rows, list) and len(rows) == value for rows in record.values())


def _told_elsewhere(field: Field, value: Any, index: Index) -> bool:
    """Whether a number is said in words, or in another unit of its field: "two weeks" beside "14 volunteers"."""
    unit = unit_of(field)
    return bool(said_of(index).numbers.get(Decimal(value)) or (unit and measured(index, unit, Decimal(value))))


_SUMS = {"gross", "net", "balance", "paid", "line amount", ""}


def _one_number_for_two(kind: RecordType, record: Mapping[str, Any], evidence: Mapping[str, Evidence], index: Index) -> Iterator[Finding]:
    """An amount that is given for two fields and stands once, unless both are sums, which are often the same."""
    claims: dict[Decimal, list[Field]] = {}
    for each in kind.header:
        value = record.get(each.name) if each.shape.count("/") == 1 and each.kind == "amount" and "labels" not in each.ours else None
        stands = evidence.get(each.shape, _NOWHERE).how in ("printed", "said")
        if (
            isinstance(value, Decimal | int)
            and not isinstance(value, bool)
            and value not in (0, 1)
            and stands
            and not _counts_rows(each, value, record)
        ):
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
            if each.kind != "amount" or a_share(each) or concept_of(each) not in ("unit price", "line amount"):
                continue
            quotes = {n: found.quote for n in range(len(rows)) if (found := evidence.get(f"{pointer}/{n}/{each.name}")) and found.how == "printed"}
            bare = [n for n, quote in quotes.items() if not _CENTS.search(quote)]
            spots = (
                places(each, rows[bare[0]][each.name], index)[:MOST_PLACES]
                if len(bare) == 1 and len(quotes) > 1 and not _SIGN.search(quotes[bare[0]])
                else []
            )
            if spots and not any(_CENTS.search(index.quote(spot)) for spot in spots):
                at = f"{pointer}/{bare[0]}/{each.name}"
                message = f"{kind.titled(at)} is printed as {quotes[bare[0]]}, without cents, as it is in no other row."
                yield Finding("of another column", "stop", message, (at,))


_SIGN = re.compile(r"[€$£]")  # what has it is a price
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
            if field is None or "number" not in field.types or isinstance(value, bool) or not isinstance(value, Decimal | int) or asks_extreme(field):
                continue  # the cheapest of some is one of theirs
            free = [
                place
                for place in places(field, value, index)[:MOST_PLACES]
                if (place.page, words_box(index.pages[place.page], place.words)) not in claimed
            ]
            if (
                not free and get(record, rows[0]) != -value and not _opens_or_closes(field, rows, record)
            ):  # what is taken off in a row is told without its sign outside
                message = f"{kind.titled(pointer)} {value!s} stands only where {kind.titled(rows[0])} stands (page {page})."
                yield Finding("of a row", "stop", message, (pointer,))


def _opens_or_closes(field: Field, rows: Sequence[str], record: Mapping[str, Any]) -> bool:
    """Whether a field asks for what a list begins or ends with, such as a balance, and its value stands in the first or last row."""
    first_or_last = any(number in ("0", str(len(get(record, f"/{name}") or ()) - 1)) for at in rows for name, number in [at[1:].split("/")[:2]])
    return first_or_last and bool(_OPENS.search(plain(f"{field.worded} {field.schema.get('description') or ''}")))


_LENGTHS = frozenset(["days", "weeks", "months", "hours", "minutes"])
_OPENS = re.compile(
    r"open|clos|begin|start|initial|final|\bend|carried|anfang|schluss|beginn|ende|vortrag|ouvert|cloture|debut|\bfin|saldo|inicia|apertura|cierre|inizi|chiusura|eind"
    r"|abertura|fecho|pocz|koniec|konc|pocat|startsald|slutsald|ingaende|utgaende"
)


def _other_units(kind: RecordType, record: Mapping[str, Any], evidence: Mapping[str, Evidence], index: Index) -> Iterator[Finding]:
    """Numbers of days, per cents and the like that stand by no such word, though another number does; years that were given for a length."""
    for pointer, given in leaves(record):
        counted = kind.by_shape.get(shape(pointer))
        unit = unit_of(counted) if counted is not None and counted.kind == "amount" else None
        if unit in _LENGTHS and isinstance(given, Decimal | int) and not isinstance(given, bool) and 1900 <= Decimal(given) < 2100:
            lines = {(spot.page, index.pages[spot.page].line_of[spot.words[0]]) for spot in index.numbers.get(Decimal(given), ())}
            if lines and not lines & lines_with(index, str(unit)):
                yield Finding("of another unit", "stop", f"{kind.titled(pointer)} {given!s} is a year, and no number of {unit}.", (pointer,))
    for field in kind.header:
        value = get(record, field.shape)
        unit = unit_of(field)
        if unit == "per cent" and isinstance(value, Decimal | int) and not isinstance(value, bool) and abs(Decimal(value)) > LARGEST_SHARE:
            yield Finding("of another unit", "stop", f"{kind.titled(field.shape)} {value!s} is no number of per cent.", (field.shape,))
        if (
            unit is None
            or not isinstance(value, Decimal | int)
            or isinstance(value, bool)
            or evidence.get(field.shape, _NOWHERE).how not in ("printed", "said")
        ):
            continue
        lines = lines_with(index, unit)
        found = [*index.numbers.get(Decimal(value), ()), *index.numbers.get(-Decimal(value), ()), *places(field, value, index)]
        spots = [(place.page, index.pages[place.page].line_of[place.words[0]]) for place in found[:MOST_PLACES]]
        measures = measured(index, unit, Decimal(value)) or said_of(index).numbers.get(Decimal(value))
        if lines and spots and not measures and not any(spot in lines for spot in spots):
            yield Finding(
                "of another unit",
                "stop",
                f"{kind.titled(field.shape)} {value!s} stands by no word for {unit}, as another number does.",
                (field.shape,),
            )
