"""Rows that an earlier version has written, recognised by the keys that it gave them."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any, Generic, TypeVar

from metrikon.core.flows.keys import LONGEST_FORMER, by_former_rule, former_parts, is_former
from metrikon.ports.destination import Row

T = TypeVar("T")


class Former(Generic[T]):
    """The keys by the earlier rule that a destination holds, each with where its row is. `place_end`: the name of the sheet or table."""

    def __init__(self, keys: Iterable[tuple[str, T]], place_end: str) -> None:
        self._whole: dict[str, T] = {}
        self._cut: list[tuple[str, T]] = []
        for key, at in keys:
            held = former_parts(key, place_end)
            if held is None:
                continue
            if len(key) >= LONGEST_FORMER:
                self._cut.append((held, at))
            else:
                self._whole.setdefault(held, at)

    def __bool__(self) -> bool:
        return bool(self._whole or self._cut)

    def find(self, row: Row, values: Callable[[T], Iterable[Any]]) -> T | None:
        """Where the row was written before, or None. `values`: what stands in the row at a place."""
        if not row.parts or not (self._whole or self._cut):
            return None
        held = by_former_rule(row.parts)
        at = self._whole.get(held)
        if at is not None and is_former(held, False, row.parts, values(at)):
            return at
        near = ((each, at) for each, at in self._cut if held.startswith(each))
        return next((at for each, at in near if is_former(each, True, row.parts, values(at))), None)
