"""Values of rows that need not stand in the lines of their row: numbers of rows, columns of a table, what stands above all."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

from metrikon.core.documents.model import Table, words_box
from metrikon.core.extraction.doubting.seen import Seen
from metrikon.core.extraction.indexing.index import Index, Place, squeezed

SHORTEST_HEAD = 3  # letters of a head that names a row


def side_by_side(seen: Sequence[Sequence[Seen]], index: Index) -> bool:
    """Whether the rows stand beside each other as columns of a page: what stands only once of each has a stretch of the page's width of its own."""
    stretches = []
    for row in seen:
        edges = [edges_of(index, each.at[0][1]) for each in row if len(each.at) == 1]
        if len(edges) > 1:
            stretches.append((min(low for low, _ in edges), max(high for _, high in edges)))
    apart = all(one[1] < two[0] for one, two in pairwise(stretches))
    return len(stretches) > 1 and apart


def for_several(one: Seen, seen: Sequence[Sequence[Seen]]) -> bool:
    """Whether several rows have the same value, which stands fewer times: a heading over them, a rate for all."""
    given = [each for row in seen for each in row if each.field is one.field]
    same = sum(1 for each in given if each.value == one.value)
    return (same >= 3 or same == len(given) > 1) and len({line for line, _ in one.at}) < same


def above_all(one: Seen, seen: Sequence[Sequence[Seen]], bands: Sequence[tuple[int, int] | None]) -> bool:
    """Whether a text is given for several rows and stands in none of their lines: who is addressed, what a heading over them says."""
    same = sum(1 for row in seen for each in row if each.field is one.field and each.value == one.value)
    within = any(band is not None and band[0] <= line <= band[1] for line, _ in one.at for band in bands)
    return isinstance(one.value, str) and same > 1 and not within


def numbering(seen: Sequence[Sequence[Seen]]) -> set[str]:
    """The values of a field that numbers the rows one after the other."""
    given: dict[str, list[Seen]] = {}
    for row in seen:
        for each in row:
            given.setdefault(each.field.shape, []).append(each)
    numbering = [
        values for values in given.values() if len(values) == len(seen) > 2 and [each.value for each in values] == list(range(1, len(seen) + 1))
    ]
    return {each.pointer for values in numbering for each in values}


def columns_of_rows(seen: Sequence[Sequence[Seen]], index: Index) -> set[str]:
    """Values of rows that are the columns of a table: a head for each row is a part of one of its texts, and the value stands under it."""
    found: set[str] = set()
    for table in index.document.tables:
        heads = [squeezed(cell.text) for cell in table.header]
        at = [_head_of(row, heads) for row in seen]
        told = [column for column in at if column is not None]
        if 1 < len(told) == len(set(told)):
            for row, column in zip(seen, at, strict=True):
                found |= _of_column(row, column, heads[column], table) if column is not None else set()
    return found


def _of_column(row: Sequence[Seen], column: int, head: str, table: Table) -> set[str]:
    """The values of a row that stand under a head, and the text that has the head as its word."""
    under = {(cells[column].page, word) for cells in (table.header, *table.rows) if column < len(cells) for word in cells[column].words}
    below = {each.pointer for each in row if any((place.page, word) in under for _, place in each.at for word in place.words)}
    return below | {each.pointer for each in row if isinstance(each.value, str) and head in map(squeezed, each.value.split())}


def _head_of(row: Sequence[Seen], heads: Sequence[str]) -> int | None:
    """The column whose head one of a row's texts is, or has as its word; None where that is not just one."""
    texts = [each.value for each in row if isinstance(each.value, str)]
    words = {squeezed(part) for text in texts for part in (text, *text.split())}
    fit = [at for at, head in enumerate(heads) if len(head) >= SHORTEST_HEAD and head in words]
    return fit[0] if len(fit) == 1 else None


def edges_of(index: Index, place: Place) -> tuple[float, float]:
    """Where a place begins and ends across the page, in its units."""
    x0, _, x1, _ = words_box(index.pages[place.page], place.words)
    return (x0, x1)
