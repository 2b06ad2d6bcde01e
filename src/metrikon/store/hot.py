"""Statements of the hot path: compiled once for the database at hand, then given to its driver as they are.

Building and compiling a statement costs several times what running it does; these run for every document.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.exc import DBAPIError
from sqlalchemy.sql import ClauseElement


@contextmanager
def _cursor(connection: Connection, sql: str) -> Iterator[Any]:
    """A cursor of the driver within the transaction of a connection; errors of the driver become SQLAlchemy's."""
    driver: Any = connection.connection
    cursor = driver.cursor()
    try:
        yield cursor
    except connection.dialect.loaded_dbapi.Error as error:
        raise DBAPIError(sql, None, error) from error
    finally:
        cursor.close()


class Hot:
    """One statement with named parameters, all of plain types that the driver takes; no lists (IN)."""

    def __init__(self, statement: ClauseElement) -> None:
        self._statement = statement
        self._made: dict[str, tuple[str, tuple[str, ...], Mapping[str, Any]]] = {}

    def run(self, connection: Connection, values: Mapping[str, Any]) -> list[tuple[Any, ...]]:
        """Run it once; the rows it gives."""
        sql, order, fixed = self._compiled(connection)
        given = tuple(values[name] if name in values else fixed[name] for name in order)
        with _cursor(connection, sql) as cursor:
            cursor.execute(sql, given)
            return list(cursor.fetchall()) if cursor.description else []

    def scalar(self, connection: Connection, values: Mapping[str, Any]) -> Any:
        """The first value of the first row, or None."""
        rows = self.run(connection, values)
        return rows[0][0] if rows else None

    def many(self, connection: Connection, rows: Sequence[Mapping[str, Any]]) -> None:
        """Run it once for each row."""
        sql, order, fixed = self._compiled(connection)
        given = [tuple(row[name] if name in row else fixed[name] for name in order) for row in rows]
        with _cursor(connection, sql) as cursor:
            cursor.executemany(sql, given)

    def _compiled(self, connection: Connection) -> tuple[str, tuple[str, ...], Mapping[str, Any]]:
        name = connection.dialect.name
        if name not in self._made:
            compiled: Any = self._statement.compile(dialect=connection.dialect)
            given = {each: value for each, value in compiled.construct_params(_check=False).items() if value is not None}
            self._made[name] = (str(compiled), tuple(compiled.positiontup), given)
        return self._made[name]
