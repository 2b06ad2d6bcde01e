"""Whether the values of a list belong to their rows: in the lines of their row, and in the column of their field."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import Any

from metrikon.core.extraction.doubting.apart import above_all, columns_of_rows, for_several, numbering, side_by_side
from metrikon.core.extraction.doubting.bands import bands_of
from metrikon.core.extraction.doubting.other_columns import in_other_columns, of_one_piece
from metrikon.core.extraction.doubting.seen import Seen, line_numbers, seen_of
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.records.findings import Finding
from metrikon.core.records.meaning import concept_of
from metrikon.core.records.types import RecordType


def of_rows(kind: RecordType, pointer: str, rows: Sequence[Any], index: Index) -> Iterator[Finding]:
    """Values that stand outside the lines of their row, and figures that stand in another column than those of the other rows."""
    lines = index.once("line numbers", line_numbers)
    seen = [seen_of(kind, pointer, number, row, index, lines) for number, row in enumerate(rows)]
    if index.document.sentences or side_by_side(seen, index):
        return  # what is said has no rows: a name is said once, and what belongs to it is said all over
    bands = bands_of(seen)
    order = [band for band in bands if band is not None]
    if len(order) < 2 or order != sorted(order):
        return  # the rows stand in another order, or beside each other
    apart = numbering(seen) | columns_of_rows(seen, index)
    own: list[Seen] = []
    for number, values in enumerate(seen):
        reach = _reach(bands, number, len(lines))
        if reach is None:
            continue
        inside = [each.within(*reach) for each in values]
        for each, held in zip(values, inside, strict=True):
            if not held.at and _must_stand(each, apart) and not for_several(each, seen) and not above_all(each, seen, bands):
                message = f"{kind.titled(each.pointer)} {each.value!s} stands outside the lines of its row."
                yield Finding("of another row", "stop", message, (each.pointer,))
        here = [each for each in inside if each.at]
        yield from _twice_in_a_row(kind, here, index)
        own += here
    yield from (found for found in in_other_columns(kind, own, index) if not of_one_piece(rows, found.fields[0]))


def _must_stand(seen: Seen, apart: set[str]) -> bool:
    """Whether a value must stand in the lines of its row: it stands anywhere, is not one of something, and belongs to no column."""
    return bool(seen.at) and seen.value != 1 and seen.pointer not in apart


def _reach(bands: Sequence[tuple[int, int] | None], number: int, lines: int) -> tuple[int, int] | None:
    """The lines that are a row's own: its band, and what no row before or after claims; two lines at most beyond the first and last row."""
    band = bands[number]
    if band is None:
        return None
    before = next((each[1] for each in reversed(bands[:number]) if each is not None), -1)
    after = next((each[0] for each in bands[number + 1 :] if each is not None), lines + 1)
    low, high = min(before + 1, band[0]), max(after - 1, band[1])
    return (low if before >= 0 else max(low, band[0] - EDGE)), (high if after <= lines else min(high, band[1] + EDGE))


EDGE = 2  # lines beyond the first and the last row


_ONLY_YEAR = re.compile(r"(?:19|20)\d\d")


def _named_once(seen: Seen, index: Index) -> bool:
    """Whether the line of a year names no other."""
    lines = [index.pages[place.page].lines[index.pages[place.page].line_of[place.words[0]]].text for _, place in seen.at]
    return all(len(set(_ONLY_YEAR.findall(line))) == 1 for line in lines)


def _twice_in_a_row(kind: RecordType, values: Sequence[Seen], index: Index) -> Iterator[Finding]:
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
