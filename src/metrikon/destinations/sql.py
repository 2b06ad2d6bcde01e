"""A table of a database. The delivery key is its primary key, so the database itself refuses a second row."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal
from functools import lru_cache
from pathlib import Path
from typing import Any, Literal

from pydantic import Field
from sqlalchemy import (
    Boolean,
    Column,
    Date,
    MetaData,
    Numeric,
    String,
    Table,
    Text,
    false,
    inspect,
    make_url,
    select,
    text,
    update,
)
from sqlalchemy.dialects import postgresql, sqlite
from sqlalchemy.exc import ArgumentError, DBAPIError, NoSuchModuleError, OperationalError, SQLAlchemyError
from sqlalchemy.types import TypeEngine

from metrikon.connections.sql import engine_of, touched, url_of
from metrikon.core.flows.form import Form
from metrikon.core.flows.secret import masked
from metrikon.core.values.found import found_in
from metrikon.destinations.cells import as_date, cell_value
from metrikon.destinations.former import Former
from metrikon.destinations.places import from_home
from metrikon.ports.destination import KEY_COLUMN, Broken, Busy, DestinationKind, Receipt, Row, Unusable


class SqlTable(Form):
    """A table of a database."""

    url: str = Field(..., min_length=1, description="A database URL, e.g. sqlite:///ledger.db; relative paths start at the service's folder.")
    table: str = Field(..., pattern=r"^[A-Za-z_][A-Za-z0-9_]{0,62}$", description="The table; it is made when it is not there.")


class SqlDestination:
    """Makes the table and missing columns itself. Amounts are exact: NUMERIC, or text where the database has floats only."""

    gather = 0.02
    rest = 0.0

    def __init__(self, url: str, table: str) -> None:
        try:
            self.engine = engine_of(url)
        except (ArgumentError, NoSuchModuleError, ImportError) as error:
            raise Unusable(f"The database URL of this destination cannot be used: {error}.") from error
        self.name = table
        self._former: Former[str] | None = None  # keys that an earlier version has written; no more of them come
        self._known: Table | None = None  # the table as last seen; looked at anew when a column is missing or a write fails
        self.is_sqlite = self.engine.dialect.name == "sqlite"

    def write(self, rows: Sequence[Row]) -> list[Receipt]:
        try:
            return self._write(rows)
        except OperationalError as error:
            self._known = None
            raise Busy(f"The database did not take the rows: {error.orig}. They are kept and tried again.") from error
        except (DBAPIError, SQLAlchemyError) as error:
            self._known = None
            raise Broken(f"The table {self.name} did not take the rows: {getattr(error, 'orig', None) or error}.") from error

    def _write(self, rows: Sequence[Row]) -> list[Receipt]:
        with self.engine.begin() as connection:
            table = self._table(connection, rows)
            keys = [row.key for row in rows]
            there: dict[str, str] = {}  # the key that each row stands under: an earlier version had a rule of its own
            for start in range(0, len(keys), 500):
                query = select(table.c[KEY_COLUMN]).where(table.c[KEY_COLUMN].in_(keys[start : start + 500]))
                there.update({key: key for key in connection.execute(query).scalars()})
            there.update({row.key: held for row in rows if row.key not in there and (held := self._held_before(connection, table, row))})
            insert = sqlite.insert if self.is_sqlite else postgresql.insert
            fresh: dict[str, Row] = {}
            for row in rows:
                if row.key not in there:
                    fresh.setdefault(row.key, row)
            if fresh:
                connection.execute(insert(table).on_conflict_do_nothing(), [self._values(table, row) for row in fresh.values()])
            for row in rows:
                if row.sets and fresh.get(row.key) is not row:
                    self._set(connection, table, row, there.get(row.key, row.key))
        return [Receipt(row.key, _became(row, fresh), f"table {self.name}") for row in rows]

    def _set(self, connection: Any, table: Table, row: Row, key: str) -> None:
        """Set columns of a row that is there."""
        values = {_column(name): _fitted(table.c[_column(name)].type, value) for name, value in row.values.items()}
        connection.execute(update(table).where(table.c[KEY_COLUMN] == key).values(values))

    def find(self, where: Mapping[str, Any], most: int) -> Iterator[Mapping[str, Any]]:
        try:
            with self.engine.connect() as connection:
                if not inspect(connection).has_table(self.name):
                    return
                table = Table(self.name, MetaData(), autoload_with=connection)
                query = select(table).limit(most + 1)
                for name, value in where.items():
                    column = table.c.get(_column(name))
                    if column is None:
                        raise Broken(f"The table {self.name} has no column {name!r}. Correct the flow.")
                    fitted = _fitted(column.type, value)
                    query = query.where(column.is_(None) if value is None else false() if fitted is None else column == fitted)
                rows = connection.execute(query).mappings().all()
        except OperationalError as error:
            raise Busy(f"The table {self.name} cannot be looked into: {error.orig}. It is tried again.") from error
        except (DBAPIError, SQLAlchemyError) as error:
            raise Broken(f"The table {self.name} cannot be looked into: {getattr(error, 'orig', None) or error}.") from error
        if len(rows) > most:
            raise Broken(f"The table {self.name} holds more than {most} rows like these. Say more in `where`.")
        yield from ({column: found_in(value) for column, value in row.items() if column != KEY_COLUMN} for row in rows)

    def _held_before(self, connection: Any, table: Table, row: Row) -> str | None:
        """The key by the rule of an earlier version, under which that has written the row."""
        if self._former is None:
            query = select(table.c[KEY_COLUMN]).where(table.c[KEY_COLUMN].like("sql:%"))
            self._former = Former(((str(key), str(key)) for key in connection.execute(query).scalars()), self.name)

        def values(key: str) -> list[Any]:
            return list(connection.execute(select(table).where(table.c[KEY_COLUMN] == key)).first() or ())

        return self._former.find(row, values)

    def _table(self, connection: Any, rows: Sequence[Row]) -> Table:
        wanted: dict[str, Any] = {}
        for row in rows:
            for name, value in row.values.items():
                if wanted.get(name) is None:
                    wanted[name] = value
        if self._known is not None and all(_column(name) in self._known.c for name in wanted):
            return self._known
        self._known = self._seen(connection, wanted)
        return self._known

    def _seen(self, connection: Any, wanted: dict[str, Any]) -> Table:
        """The table, made or widened where it must be."""
        if not inspect(connection).has_table(self.name):
            columns = [Column(_column(name), self._type(value)) for name, value in wanted.items()]
            table = Table(self.name, MetaData(), Column(KEY_COLUMN, String(500), primary_key=True), *columns)
            table.create(connection)
            return table
        table = Table(self.name, MetaData(), autoload_with=connection)
        if KEY_COLUMN not in table.c:
            raise Unusable(f"The table {self.name} has no column {KEY_COLUMN}. Add one with a unique index, or name another table.")
        missing = [(name, value) for name, value in wanted.items() if _column(name) not in table.c]
        for name, value in missing:
            kind = self._type(value).compile(self.engine.dialect)
            quoted = self.engine.dialect.identifier_preparer.quote
            connection.execute(text(f"ALTER TABLE {quote_table(quoted, self.name)} ADD COLUMN {quoted(_column(name))} {kind}"))
        return Table(self.name, MetaData(), autoload_with=connection) if missing else table

    def _type(self, value: Any) -> TypeEngine[Any]:
        if isinstance(value, bool):
            return Boolean()
        if isinstance(value, Decimal | int):
            return Text() if self.is_sqlite else Numeric()
        return Date() if isinstance(value, str) and as_date(value) and not self.is_sqlite else Text()

    def _values(self, table: Table, row: Row) -> dict[str, Any]:
        values: dict[str, Any] = {column.name: None for column in table.columns}
        for name, value in row.values.items():
            kind = table.c[_column(name)].type
            values[_column(name)] = _fitted(kind, value)
        return {**values, KEY_COLUMN: row.key}


def _became(row: Row, fresh: Mapping[str, Row]) -> Literal["written", "there already", "updated"]:
    return "written" if fresh.get(row.key) is row else "updated" if row.sets else "there already"


def quote_table(quote: Any, name: str) -> str:
    """A table name for use in a statement."""
    return str(quote(name))


@lru_cache(maxsize=4096)
def _column(name: str) -> str:
    """A column name as databases like it: "Unit price" → unit_price."""
    made = "".join(c if c.isalnum() else "_" for c in name.strip().lower())
    return made[:60] or "value"


def _fitted(kind: Any, value: Any) -> Any:
    if value is None:
        return None
    if isinstance(kind, Numeric):
        return value if isinstance(value, Decimal | int) else None
    if isinstance(kind, Date):
        return as_date(value) if isinstance(value, str) else None
    if isinstance(kind, Boolean):
        return bool(value)
    if isinstance(value, Decimal):
        return f"{value:f}"
    shown = cell_value(value)
    return shown if isinstance(shown, str) else str(shown)


def _place(said: SqlTable, home: Path) -> str:
    try:
        url = make_url(url_of(said.url, home))
    except ArgumentError:
        return f"sql:{said.table}"
    if url.get_backend_name() == "sqlite":
        return f"sql:sqlite:{from_home(Path(url.database or ''), home)}#{said.table}"
    return f"sql:{url.get_backend_name()}:{url.host or 'localhost'}:{url.port or ''}/{url.database}#{said.table}"


def _former_place(said: SqlTable, home: Path) -> str:
    url = url_of(said.url, home)
    try:
        return f"sql:{url.split('://', 1)[0]}://{make_url(url)._replace(password=None, username=None).database}#{said.table}"
    except ArgumentError:
        return f"sql:{said.table}"


def _build(said: SqlTable, home: Path) -> SqlDestination:
    try:
        return SqlDestination(url_of(said.url, home), said.table)
    except ArgumentError as error:
        raise Unusable(f"{masked(said.url)!r} is no database URL, such as sqlite:///ledger.db.") from error


KIND = DestinationKind(
    "sql", SqlTable, _place, _former_place, _build, lambda said: f"the table {said.table} of a database", lambda said, home: touched(said.url, home)
)
