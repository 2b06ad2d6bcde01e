"""Statements of the hot path: compiled once for the database at hand, then given to its driver (SQLite) as they are.

Building and compiling a statement costs several times what running it does; these run for every document.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.exc import DBAPIError
from sqlalchemy.sql import ClauseElement


class Hot:
    """One statement with named parameters, all of plain types that the driver takes; no lists (IN)."""

    def __init__(self, statement: ClauseElement) -> None:
        self._statement = statement
        self._made: dict[str, tuple[str, tuple[str, ...], Mapping[str, Any]]] = {}

    def run(self, connection: Connection, values: Mapping[str, Any]) -> list[tuple[Any, ...]]:
        """Run it once; the rows it gives."""
        sql, order, fixed = self._compiled(connection)
        driver: Any = connection.connection.driver_connection
        try:
            return driver.execute(sql, [values[name] if name in values else fixed[name] for name in order]).fetchall()  # type: ignore[no-any-return]
        except connection.dialect.loaded_dbapi.Error as error:
            raise DBAPIError(sql, None, error) from error

    def scalar(self, connection: Connection, values: Mapping[str, Any]) -> Any:
        """The first value of the first row, or None."""
        rows = self.run(connection, values)
        return rows[0][0] if rows else None

    def many(self, connection: Connection, rows: Sequence[Mapping[str, Any]]) -> None:
        """Run it once for each row."""
        sql, order, fixed = self._compiled(connection)
        driver: Any = connection.connection.driver_connection
        try:
            driver.executemany(sql, [[row[name] if name in row else fixed[name] for name in order] for row in rows])
        except connection.dialect.loaded_dbapi.Error as error:
            raise DBAPIError(sql, None, error) from error

    def _compiled(self, connection: Connection) -> tuple[str, tuple[str, ...], Mapping[str, Any]]:
        name = connection.dialect.name
        if name not in self._made:
            compiled: Any = self._statement.compile(dialect=connection.dialect)
            given = {each: value for each, value in compiled.construct_params(_check=False).items() if value is not None}
            self._made[name] = (str(compiled), tuple(compiled.positiontup), given)
        return self._made[name]
