"""Rows kept in memory: for trying flows and for tests. Encodes as the others do and can be made to fail."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

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
        receipts = []
        for row in rows:
            known = row.key in self.rows
            if not known and row.only:
                receipts.append(Receipt(row.key, "not there"))
                continue
            if not known or row.sets:
                self.rows[row.key] = {**self.rows.get(row.key, {}), **loads(dumps(dict(row.values)))}
            receipts.append(
                Receipt(row.key, "written" if not known else "updated" if row.sets else "there already", f"row {list(self.rows).index(row.key) + 1}")
            )
        return receipts
