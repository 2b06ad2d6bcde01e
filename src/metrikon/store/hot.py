"""Statements of the hot path: compiled once for the database at hand, then given to its driver as they are.

Building and compiling a statement costs several times what running it does; these run for every document.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import Connection, CursorResult
from sqlalchemy.sql import ClauseElement


class Hot:
    """One statement with named parameters, all of plain types that the driver takes; no lists (IN)."""

    def __init__(self, statement: ClauseElement) -> None:
        self._statement = statement
        self._made: dict[str, tuple[str, tuple[str, ...], Mapping[str, Any]]] = {}

    def run(self, connection: Connection, values: Mapping[str, Any]) -> CursorResult[Any]:
        """Run it once."""
        sql, order, fixed = self._compiled(connection)
        return connection.exec_driver_sql(sql, tuple(values[name] if name in values else fixed[name] for name in order))

    def many(self, connection: Connection, rows: Sequence[Mapping[str, Any]]) -> None:
        """Run it once for each row."""
        sql, order, fixed = self._compiled(connection)
        connection.exec_driver_sql(sql, [tuple(row[name] if name in row else fixed[name] for name in order) for row in rows])

    def _compiled(self, connection: Connection) -> tuple[str, tuple[str, ...], Mapping[str, Any]]:
        name = connection.dialect.name
        if name not in self._made:
            compiled: Any = self._statement.compile(dialect=connection.dialect)
            given = {each: value for each, value in compiled.construct_params(_check=False).items() if value is not None}
            self._made[name] = (str(compiled), tuple(compiled.positiontup), given)
        return self._made[name]
