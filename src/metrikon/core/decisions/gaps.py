"""What a table leaves open, and where its rules overlap: found when it is kept, where inputs are yes/no, options, or stretches of what is ordered."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import groupby
from typing import Any

from metrikon.core.decisions.cells import Cell, Dimension, cell_of, dimension, segments
from metrikon.core.decisions.model import SINGLE, Input, Table
from metrikon.core.feel.values import kind_of, text_of

MOST_WORK = 200_000
MOST_TOLD = 10
Run = tuple[int, int, int]  # an input, the first and the last of segments of it


def gaps(table: Table) -> list[str]:
    """Cases that no rule covers, each as it would be given; none where there is a default, or where they cannot be told."""
    if any(each.default is not None for each in table.outputs) or table.hit not in SINGLE:
        return []
    return _Covering(table).gaps()


def overlaps(table: Table) -> list[str]:
    """Rules that hold at once where they may not: all for `unique`, those that decide differently for `any`."""
    if table.hit not in ("unique", "any"):
        return []
    covering = _Covering(table)
    found = []
    for one, two in covering.pairs():
        if table.hit == "any" and table.rules[one].then == table.rules[two].then:
            continue
        case = covering.shared(one, two)
        if case is not None:
            found.append(f"Rules {one + 1} and {two + 1} both hold for {case}.")
        if len(found) >= MOST_TOLD:
            break
    return found


class _Covering:
    def __init__(self, table: Table) -> None:
        self.table = table
        self.cells: list[list[Cell | None]] = []
        self.dimensions: list[Dimension | None] = []
        self.allowed: list[list[int] | None] = []  # segments that an input may fall into
        for each, tests in zip(table.inputs, table.columns, strict=True):
            cells = [cell_of(text) for text in tests]
            may = [cell for cell in (_may(each),) if cell is not None]
            found = dimension(cells, may)
            self.cells.append(cells)
            self.dimensions.append(found)
            self.allowed.append(_within(found, may[0] if may else None) if found is not None else None)
        self.work = 0

    def gaps(self) -> list[str]:
        if any(None in cells for cells in self.cells):
            return []  # what a cell lets through depends on more than its value
        if any(
            each is None and not all(cell is not None and cell.anything for cell in cells)
            for each, cells in zip(self.dimensions, self.cells, strict=True)
        ):
            return []
        found: list[str] = []
        seen: set[tuple[int, int]] = set()
        self._uncovered(0, (1 << len(self.table.rules)) - 1, [], found, seen)
        return found

    def _uncovered(self, at: int, rules: int, case: list[Run], found: list[str], seen: set[tuple[int, int]]) -> None:
        """Go through the segments of one input after the other with the rules that are left; where none is, the case is open."""
        self.work += 1
        if len(found) >= MOST_TOLD or self.work > MOST_WORK or (at, rules) in seen:
            return
        if not rules:
            found.append(self._case(case))
            return
        if at == len(self.dimensions):
            return
        seen.add((at, rules))
        dimension, allowed = self.dimensions[at], self.allowed[at]
        if dimension is None or allowed is None:
            self._uncovered(at + 1, rules, case, found, seen)
            return
        for left, run in groupby(allowed, key=lambda segment: rules & dimension.rules[segment]):
            segments = list(run)
            self._uncovered(at + 1, left, [*case, (at, segments[0], segments[-1])], found, seen)

    def _case(self, case: Sequence[Run]) -> str:
        shown = [f"{self.table.inputs[at].name} {_stretch(self.dimensions[at], first, last)}" for at, first, last in case]
        return f"No rule holds for {', '.join(shown)}. Add a rule, or a default."

    def pairs(self) -> Iterator[tuple[int, int]]:
        """Rules that may hold at once, by all inputs whose cells can be told."""
        count = len(self.table.rules)
        masks = [
            [_mask(segments(cell, dimension.edges)) & _mask_of(allowed) for cell in cells] if dimension is not None and allowed is not None else None
            for cells, dimension, allowed in zip(self.cells, self.dimensions, self.allowed, strict=True)
        ]
        known = [each for each in masks if each is not None]
        for one in range(count):
            for two in range(one + 1, count):
                self.work += 1
                if self.work > MOST_WORK * 5:
                    return
                if all(each[one] & each[two] for each in known):
                    yield one, two

    def shared(self, one: int, two: int) -> str | None:
        """A case for which two rules both hold; None when it cannot be told."""
        shown = []
        for at, (cells, found) in enumerate(zip(self.cells, self.dimensions, strict=True)):
            if cells[one] is None or cells[two] is None:
                return None
            if found is None:
                if not all(cell is not None and cell.anything for cell in (cells[one], cells[two])) and cells[one] != cells[two]:
                    return None
                continue
            both = _mask(segments(cells[one], found.edges)) & _mask(segments(cells[two], found.edges)) & _mask_of(self.allowed[at] or [])
            if not both:
                return None
            segment = (both & -both).bit_length() - 1
            shown.append(f"{self.table.inputs[at].name} {_stretch(found, segment, segment)}")
        return ", ".join(shown) or "anything"


def _may(given: Input) -> Cell | None:
    """What an input may be, where its values are told."""
    if given.values:
        return cell_of(given.values)
    return cell_of("true, false") if given.type == "boolean" else None


def _within(found: Dimension, may: Cell | None) -> list[int]:
    """The segments of a dimension that its input may fall into."""
    if may is not None:
        return [segment for start, end in segments(may, found.edges) for segment in range(start, end + 1)]
    if found.kind == "boolean":
        return [1, 3]
    return list(range(2 * len(found.edges) + 1))


def _mask(runs: Sequence[tuple[int, int]]) -> int:
    return sum((1 << (end + 1)) - (1 << start) for start, end in runs)


def _mask_of(numbers: Sequence[int]) -> int:
    return sum(1 << each for each in numbers)


def _stretch(found: Dimension | None, first: int, last: int) -> str:
    """What lies in these segments, as a unary test; one value by itself after an equals sign."""
    if found is None:
        return "is anything"
    edges: tuple[Any, ...] = found.edges
    if first == last and first % 2:
        return f"= {_literal(edges[first // 2])}"
    low = edges[(first - 1) // 2] if first else None
    high = edges[last // 2] if last < 2 * len(edges) else None
    if found.kind == "string" and first == last:
        return "is any other text"
    if low is None or high is None:
        if low is None and high is None:
            return "is anything"
        return f"{'>=' if first % 2 else '>'} {_literal(low)}" if high is None else f"{'<=' if last % 2 else '<'} {_literal(high)}"
    return f"in {'[' if first % 2 else '('}{_literal(low)}..{_literal(high)}{']' if last % 2 else ')'}"


def _literal(value: Any) -> str:
    written = str(text_of([value]))[1:-1]
    return written if kind_of(value) in ("number", "string", "boolean") else f'@"{written}"'
