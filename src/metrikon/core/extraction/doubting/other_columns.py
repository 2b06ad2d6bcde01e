"""Figures of rows that stand in another column than those of most rows."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal
from typing import Any

from metrikon.core.extraction.doubting.apart import edges_of
from metrikon.core.extraction.doubting.seen import Seen
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.records.findings import Finding
from metrikon.core.records.manner import COPIED
from metrikon.core.records.types import RecordType

COLUMN = 0.75  # share of rows whose values of a field stand under each other, from which the others are doubted


def in_other_columns(kind: RecordType, own: Sequence[Seen], index: Index) -> Iterator[Finding]:
    """Figures of a field that stand in another column than in most rows."""
    by_field: dict[str, list[Seen]] = {}
    for each in own:
        if each.field.kind == "amount" and each.field.manner == COPIED:
            by_field.setdefault(each.field.shape, []).append(each)
    spots = {name: [[edges_of(index, place) for _, place in each.at] for each in values] for name, values in by_field.items() if len(values) >= 3}
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


def of_one_piece(rows: Sequence[Any], pointer: str) -> bool:
    """Whether a row is of one piece and gives a figure twice: its price is its amount, and both are printed once."""
    _, number, name = pointer.rsplit("/", 2)
    row = rows[int(number)] if number.isdecimal() and int(number) < len(rows) else None
    if not isinstance(row, Mapping):
        return False
    others = [value for key, value in row.items() if key != name and isinstance(value, Decimal | int) and not isinstance(value, bool)]
    return row.get(name) in others and 1 in others


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
