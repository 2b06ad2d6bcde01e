"""The rows of a query, some at a time, so that many take no more memory than few, and no file is kept locked for as long as somebody looks at them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from sqlalchemy import Connection, Engine, Integer, Select, Table, literal_column, text

AT_ONCE = 500


def walked(engine: Engine, connection: Connection, table: Table, query: Select[Any]) -> Iterator[Mapping[Any, Any]]:
    """Rows of a table that a query wants, in the order that they were written in as far as the database keeps it.

    A server shows all of them as they stood at one time, and locks nobody out. A file of SQLite does lock others out, so it is asked anew for each part: what is
    changed meanwhile may be among them.
    """
    if engine.dialect.name != "sqlite":
        yield from (row._mapping for row in connection.execution_options(yield_per=AT_ONCE).execute(query))
        return
    if not _numbers_rows(connection, table):
        rows = connection.execute(query).all()
        connection.rollback()
        yield from (row._mapping for row in rows)
        return
    place, after = literal_column("_rowid_", Integer), None
    while True:
        part = query.add_columns(place.label("_place")).order_by(place).limit(AT_ONCE)
        some = connection.execute(part if after is None else part.where(place > after)).all()
        connection.rollback()
        yield from ({name: value for name, value in row._mapping.items() if name != "_place"} for row in some)
        if len(some) < AT_ONCE:
            return
        after = some[-1]._mapping["_place"]


def _numbers_rows(connection: Connection, table: Table) -> bool:
    """Whether SQLite numbers the rows itself: not those of a view, of a table WITHOUT ROWID, or of one with a column of that name (its manual, rowid tables)."""
    asked = text("SELECT count(*) FROM pragma_table_list WHERE name = :name AND type = 'table' AND NOT wr")
    names = {column.name.casefold() for column in table.columns}
    return bool(connection.execute(asked, {"name": table.name}).scalar()) and names.isdisjoint(("_rowid_", "_place"))
