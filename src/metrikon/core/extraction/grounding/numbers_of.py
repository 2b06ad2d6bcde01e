"""The numbers of a record that stand in its document, and those of the document itself, from which others may be reckoned."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from metrikon.core.extraction.indexing.index import Index, Place
from metrikon.core.extraction.indexing.placed import is_share
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.meaning import a_share, concept_of
from metrikon.core.records.pointers import get, leaves, shape
from metrikon.core.records.types import Field, RecordType

MOST = 16  # numbers of a record that are tried with each other
MOST_OF_ROWS = 24  # numbers of the rows of short lists
MOST_PRINTED = 40  # amounts, and shares, of a document that are tried with those of a record


@dataclass(frozen=True)
class Figure:
    """A number of a record that stands in the document, or follows from others that do."""

    name: str
    value: Decimal
    field: Field

    @property
    def counts(self) -> bool:
        """Whether it counts things: a whole number that is no share."""
        return self.value == int(self.value) and not a_share(self.field)

    @property
    def share(self) -> bool:
        """Whether it is so many per cent."""
        return a_share(self.field) or concept_of(self.field) == "tax rate"


@dataclass(frozen=True)
class Sought:
    """A value that stands nowhere, with the record and the document that it may follow from."""

    kind: RecordType
    record: Mapping[str, Any]
    evidence: Mapping[str, Evidence]
    index: Index
    pointer: str
    field: Field
    value: Any

    @property
    def number(self) -> Decimal | None:
        """The value where it is a number."""
        return number(self.value)

    @property
    def in_row(self) -> bool:
        """Whether it stands in a row of a list."""
        return "/*/" in self.field.shape


def number(value: Any) -> Decimal | None:
    """A value as an exact number; None when it is none."""
    return Decimal(value) if isinstance(value, Decimal | int) and not isinstance(value, bool) else None


def of_record(sought: Sought) -> list[Figure]:
    """The numbers outside of lists, but for the value itself."""
    return list(_found(sought, sought.record, ""))[:MOST]


def of_row(sought: Sought) -> list[Figure]:
    """The other numbers of the row that a value stands in."""
    row = sought.pointer.rsplit("/", 1)[0]
    return list(_found(sought, get(sought.record, row), row))[:MOST]


def of_lists(sought: Sought) -> list[Figure]:
    """The numbers of rows of short lists, such as a price list."""
    return [figure for _, figure in figures_of_rows(sought)]


def figures_of_rows(sought: Sought) -> list[tuple[str, Figure]]:
    """The same with their pointers."""
    found = []
    for pointer, value in leaves(sought.record):
        field, known, amount = sought.kind.by_shape.get(shape(pointer)), sought.evidence.get(pointer), number(value)
        if field is not None and "/*/" in field.shape and known is not None and known.found and amount:
            found.append((pointer, Figure(pointer[1:].replace("/", " "), amount, field)))
    return found if len(found) <= MOST_OF_ROWS else []


def _found(sought: Sought, part: Any, above: str) -> Iterator[Figure]:
    for pointer, value in leaves(part, above):
        field = sought.kind.by_shape.get(shape(pointer))
        amount, known = number(value), sought.evidence.get(pointer)
        if field is None or not amount or known is None or not known.found or pointer == sought.pointer:
            continue
        if above or "/*" not in field.shape:
            yield Figure(pointer.removeprefix(above)[1:].replace("/", " "), amount, field)


def on_lines_of(value: Decimal, index: Index) -> list[Decimal]:
    """The other numbers that stand on the lines of a number."""
    by_line = index.once("numbers by line", _by_line)
    lines = dict.fromkeys((place.page, index.pages[place.page].line_of[place.words[0]]) for place in index.numbers.get(value, ()))
    return [other for line in lines for other in by_line[line] if other != value][:MOST]


def counts_by_line(index: Index) -> list[tuple[str, list[Decimal]]]:
    """The text of each line and the next, where both together hold a few whole numbers, and these."""
    return index.once("counts by line", _counts_by_line)


def _counts_by_line(index: Index) -> list[tuple[str, list[Decimal]]]:
    found = []
    by_line = index.once("numbers by line", _by_line)
    for page, line in by_line:
        here = dict.fromkeys([*by_line[(page, line)], *by_line.get((page, line + 1), ())])
        counts = [each for each in here if each == int(each) and 0 < each < LARGEST_COUNT]
        if 2 <= len(counts) <= MOST_COUNTS:
            found.append((" ".join(each.text for each in index.pages[page].lines[line : line + 2]), counts))
    return found[:MOST_LINES]


MOST_COUNTS, LARGEST_COUNT, MOST_LINES = 4, 1000, 400  # of one line, as counts of things are, lines


def _by_line(index: Index) -> dict[tuple[int, int], list[Decimal]]:
    found: dict[tuple[int, int], list[Decimal]] = {}
    for value, places in index.numbers.items():
        for place in places:
            found.setdefault((place.page, index.pages[place.page].line_of[place.words[0]]), []).append(value)
    return found


def shares_printed(index: Index) -> list[Decimal]:
    """The numbers of a document that are so many per cent."""
    return index.once("shares printed", _shares)


def _shares(index: Index) -> list[Decimal]:
    found = (value for value, places in index.numbers.items() if 0 < value < 100 and any(is_share(place, index) for place in places))
    return list(dict.fromkeys(found))[:MOST_PRINTED]


def prices_printed(index: Index) -> list[Decimal]:
    """The amounts of money of a document: with cents, or with the sign or name of a currency beside them."""
    return index.once("prices printed", _prices)


def _prices(index: Index) -> list[Decimal]:
    found = (abs(value) for value, places in index.numbers.items() if value and any(_money(value, place, index) for place in places))
    return list(dict.fromkeys(found))[:MOST_PRINTED]


_SIGNS = {
    "€",
    "$",
    "£",
    "eur",
    "euro",
    "euros",
    "usd",
    "gbp",
    "kr",
    "kr.",
    "sek",
    "dkk",
    "nok",
    "kč",
    "czk",
    "zł",
    "pln",
    "chf",
    "fr.",
    "ft",
    "dollars",
    "pounds",
    "złotych",
}


def _money(value: Decimal, place: Place, index: Index) -> bool:
    words = index.pages[place.page].words
    around = [words[at].text.lower().strip(",;.()") for at in (place.words[0] - 1, place.words[-1] + 1) if 0 <= at < len(words)]
    text = index.quote(place)
    return value != int(value) or any(sign in text for sign in "€$£") or bool(_SIGNS & {*around, *(f"{each}." for each in around)})
