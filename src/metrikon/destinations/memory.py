"""Rows kept in memory: for trying flows and for tests. Encodes as the others do and can be made to fail."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from metrikon.core.deliveries.comparing import changed
from metrikon.core.values.exact import dumps, loads
from metrikon.ports.destination import Broken, Busy, Receipt, Row, Usual


class MemoryDestination(Usual):
    """Keeps rows in order under their keys. `fail_next` holds errors to raise, one a call."""

    def __init__(self) -> None:
        self.rows: dict[str, dict[str, Any]] = {}
        self.fail_next: list[Busy | Broken] = []
        self.batches: list[int] = []

    def find(self, where: Mapping[str, Any], most: int) -> Iterator[Mapping[str, Any]]:
        alike = (row for row in self.rows.values() if all(row.get(column) == value for column, value in where.items()))
        for count, row in enumerate(alike, 1):
            if count > most:
                raise Broken(f"More than {most} rows are like these. Say more in `where`.")
            yield row

    def write(self, rows: Sequence[Row]) -> list[Receipt]:
        if self.fail_next:
            raise self.fail_next.pop(0)
        self.batches.append(len(rows))
        return [self._one(row) for row in rows]

    def _one(self, row: Row) -> Receipt:
        known = self.rows.get(row.key)
        values = loads(dumps(dict(row.values)))
        if row.removes:
            return self._removed(row, known, values)
        if known is None and row.moves is not None and row.moves.key in self.rows:
            if row.whole and (there := _set_since(row, self.rows[row.moves.key], values)):
                return Receipt(row.key, "left", self._at(row.moves.key), there=there)
            self.rows = {row.key if key == row.moves.key else key: held for key, held in self.rows.items()}
            self.rows[row.key] = {**self.rows[row.key], **values}
            return Receipt(row.key, "updated", self._at(row.key))
        if known is None and row.only:
            return Receipt(row.key, "not there")
        if known is not None and row.moves is not None and row.moves.key not in self.rows and not changed(values, known):
            return Receipt(row.key, "updated", self._at(row.key))  # it was moved before, and that was not noted
        if known is not None and not row.sets:
            return Receipt(row.key, "there already", self._at(row.key), there={name: known.get(name) for name in changed(values, known)}, ours=True)
        if known is not None and row.whole and (there := _set_since(row, known, values)):
            return Receipt(row.key, "left", self._at(row.key), there=there)
        self.rows[row.key] = {**(known or {}), **values}
        before = {name: known.get(name) for name in values} if known is not None else None
        return Receipt(row.key, "written" if known is None else "updated", self._at(row.key), before=before)

    def _removed(self, row: Row, known: dict[str, Any] | None, values: dict[str, Any]) -> Receipt:
        there = {name: known.get(name) for name in changed(values, known)} if known is not None else {}
        if not there:
            self.rows.pop(row.key, None)
        return Receipt(row.key, "left" if there else "removed", there=there)

    def _at(self, key: str) -> str:
        return f"row {list(self.rows).index(key) + 1}"


def _set_since(row: Row, known: Mapping[str, Any], values: Mapping[str, Any]) -> dict[str, Any]:
    """Columns that hold neither what was last written into them nor what is wanted, with what they hold."""
    was = loads(dumps(dict(row.was or {})))
    return {name: known.get(name) for name in changed(values, known) if known.get(name) != was.get(name)}
