"""A table of a database. Its key is unique, so the database itself refuses a second row."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from functools import lru_cache
from itertools import groupby
from typing import Any, cast
from urllib.parse import urlsplit

from sqlalchemy import Column, Engine, MetaData, Table, and_, delete, inspect, or_, select, text, update
from sqlalchemy.dialects import mysql, postgresql, sqlite
from sqlalchemy.exc import SQLAlchemyError

from metrikon.connections.busy import busy
from metrikon.connections.fetching import FetchFailed
from metrikon.connections.sql import failed, file_engine, looking, path_of, touched
from metrikon.core.values.found import found_in
from metrikon.destinations import fitting
from metrikon.destinations.cells import same
from metrikon.destinations.former import Former
from metrikon.destinations.places import from_home
from metrikon.destinations.sql_form import SqlTable
from metrikon.destinations.walking import walked
from metrikon.ports.destination import KEY_COLUMN, Broken, DestinationKind, Head, Receipt, Row, There, Unusable, Usual, gone

AT_ONCE = 400  # rows that are asked for in one statement


class SqlDestination(Usual):
    """Makes the table and missing columns itself, with exact numbers, dates and yes/no. `engine`: how to come by the database, asked for each time."""

    def __init__(self, engine: Any, table: str, own_key: Sequence[str] = (), *, refuse: bool = False) -> None:
        self._engine, self.name, self._own, self._refuse = engine, table, tuple(own_key), refuse
        self._schema, _, self._bare = table.rpartition(".")
        self._former: Former[str] | None = None  # keys that an earlier version has written; no more of them come
        self._last: tuple[Table, tuple[str, ...], list[tuple[str, Column[Any]]]] | None = None
        self._ready: tuple[Table, tuple[str, ...], str, list[str], list[Callable[[Sequence[Row]], Sequence[Any]]]] | None = (
            None  # to insert rows of some columns
        )
        self._known: Table | None = None  # the table as last seen; looked at anew when a column is missing or a write fails

    @property
    def grows(self) -> bool:
        return not self._own

    @property
    def engine(self) -> Engine:
        """The database, as it is signed in at now."""
        return cast(Engine, self._engine())

    def write(self, rows: Sequence[Row]) -> list[Receipt]:
        with self._telling("did not take the rows"):
            try:
                with self.engine.begin() as connection:
                    return self._write(connection, rows)
            except BaseException:
                self._known = None
                raise

    def find(self, where: Mapping[str, Any], most: int) -> Iterator[Mapping[str, Any]]:
        with self._telling("cannot be looked into"), looking(self.engine) as connection:
            if connection is None or not inspect(connection).has_table(self._bare, self._schema or None):
                return
            table = self._looked_up(connection)
            query = select(table)
            for name, value in where.items():
                column = _at(table, name)
                if column is None:
                    raise Broken(f"The table {self.name} has no column {name!r}. Correct the flow.")
                try:
                    query = query.where(column.is_(None) if value is None else column == fitting.fitted(column, value))
                except fitting.Unfit:
                    return  # no row can hold that
            for number, row in enumerate(walked(self.engine, connection, table, query), 1):
                if number > most:
                    raise Broken(f"The table {self.name} holds more than {most} rows like these. Say more in `where`.")
                yield {column: fitting.plain(found_in(value)) for column, value in row.items() if column != KEY_COLUMN}

    def heads(self) -> Sequence[Head] | None:
        with self._telling("cannot be looked into"), looking(self.engine) as connection:
            if connection is None or not inspect(connection).has_table(self._bare, self._schema or None):
                self._must_be_made()
                return None
            table = self._looked_up(connection)
            self._must_have_key(connection, table)
        return [_head(column) for column in table.columns if column.name != KEY_COLUMN]

    @contextmanager
    def _telling(self, what: str) -> Iterator[None]:
        try:
            yield
        except FetchFailed as error:
            raise (busy(error) if error.cause else Unusable(str(error))) from error
        except SQLAlchemyError as error:
            raise failed(error, f"The table {self.name} {what}") from error

    def _write(self, connection: Any, rows: Sequence[Row]) -> list[Receipt]:
        if not any(row.removes or row.moves is not None for row in rows):
            return self._write_alike(connection, rows)
        return [self._change(connection, row) for row in rows]

    def _write_alike(self, connection: Any, rows: Sequence[Row]) -> list[Receipt]:
        """Rows that are written, or set, together."""
        table = self._table(connection, rows)
        keys = [self._key(table, row) for row in rows]
        there = self._there(connection, table, rows, keys)
        fresh: dict[Any, Row] = {}
        for row, key in zip(rows, keys, strict=True):
            if key not in there and not row.only:
                fresh.setdefault(key, row)
        if fresh:
            self._add(connection, table, list(fresh.values()))
        receipts, place = [], f"table {self.name}"
        for row, key in zip(rows, keys, strict=True):
            if fresh.get(key) is row:
                receipts.append(Receipt(row.key, "written", place))
            elif row.only and key not in there and key not in fresh:
                receipts.append(Receipt(row.key, "not there", place))
            elif row.sets:
                receipts.append(self._set(connection, table, row, there.get(key, key)))
            else:
                differs = self._otherwise(connection, table, row, there.get(key, key))
                receipts.append(Receipt(row.key, "there already", place, there=differs, ours=not self._own))
        return receipts

    def _change(self, connection: Any, row: Row) -> Receipt:
        """One row among such as are moved or removed."""
        table = self._table(connection, [row])
        key = self._key(table, row)
        if row.removes:
            return self._remove(connection, table, row, key)
        if row.moves is None:
            return self._write_alike(connection, [row])[0]
        old = self._key(table, row.moves)
        held = self._there(connection, table, [row.moves], [old]).get(old)
        if key in self._there(connection, table, [row], [key]):
            receipt = self._write_alike(connection, [row])[0]
            done = held is None and not receipt.there  # it was moved before, and that was not noted
            return replace(receipt, result="updated") if done else receipt
        if held is None:
            return self._write_alike(connection, [row])[0]
        receipt = self._set(connection, table, row, held)
        if receipt.result == "left":
            return receipt
        columns = self._key_columns(table)
        connection.execute(update(table).where(_is(columns, held)).values({column.name: part for column, part in zip(columns, key, strict=True)}))
        return receipt

    def _remove(self, connection: Any, table: Table, row: Row, key: Any) -> Receipt:
        """A row is taken away, unless somebody has set something in it since."""
        held = self._there(connection, table, [row], [key]).get(key)
        if held is None:
            return Receipt(row.key, "removed")
        differs = self._otherwise(connection, table, row, held)
        if differs:
            return Receipt(row.key, "left", f"table {self.name}", there=differs)
        connection.execute(delete(table).where(_is(self._key_columns(table), held)))
        return Receipt(row.key, "removed", f"table {self.name}")

    def _now(self, connection: Any, table: Table, row: Row, key: Any) -> dict[str, Any]:
        """What stands in the columns of a row, by their names in the flow; nobody changes it before the transaction ends."""
        columns = self._columns(table, row)
        query = select(*(column for _, column in columns)).where(_is(self._key_columns(table), key))
        held = connection.execute(query if self.engine.dialect.name == "sqlite" else query.with_for_update()).first() or ()
        return {name: fitting.plain(found_in(value)) for (name, _), value in zip(columns, held, strict=False)}

    def _otherwise(self, connection: Any, table: Table, row: Row, key: Any) -> dict[str, Any]:
        """Columns of a row that hold something else than it gives, with what they hold."""
        columns = dict(self._columns(table, row))
        now = self._now(connection, table, row, key)
        return {name: held for name, held in now.items() if not same(held, found_in(self._as_held(columns[name], row.values[name])))}

    def _key(self, table: Table, row: Row) -> Any:
        """What tells a row from others in the table: our key, or the values of its own key."""
        if not self._own:
            return (row.key,)
        columns = [(name, _at(table, name)) for name in self._own]
        missing = [name for name, column in columns if column is None or _value(row, table, name) is None]
        if missing:
            raise Broken(
                f"The row has no value for {', '.join(missing)}, by which the table {self.name} tells rows apart. Map the column, or correct `key`."
            )
        return tuple(fitting.fitted(column, _value(row, table, name), refuse=True) for name, column in columns if column is not None)

    def _key_columns(self, table: Table) -> list[Column[Any]]:
        return [column for name in (self._own or (KEY_COLUMN,)) if (column := _at(table, name)) is not None]

    def _there(self, connection: Any, table: Table, rows: Sequence[Row], keys: Sequence[Any]) -> dict[Any, Any]:
        """The keys that are there, each with that which it stands under: an earlier version had a rule of its own."""
        columns, found = self._key_columns(table), dict[Any, Any]()
        for start in range(0, len(keys), AT_ONCE):
            some = keys[start : start + AT_ONCE]
            among = columns[0].in_([key[0] for key in some]) if len(columns) == 1 else or_(*(_is(columns, key) for key in some))
            found.update({tuple(row): tuple(row) for row in connection.execute(select(*columns).where(among))})
        if not self._own and (self._former is None or self._former):
            found.update({(row.key,): (held,) for row in rows if (row.key,) not in found and (held := self._held_before(connection, table, row))})
        return found

    def _insert(self, table: Table) -> Any:
        """An insert that leaves alone a row which came meanwhile. MariaDB's own way of ignoring ignores errors as well."""
        dialect = self.engine.dialect.name
        if dialect in ("mariadb", "mysql"):
            first = self._key_columns(table)[0]
            return mysql.insert(table).on_duplicate_key_update({first.name: first})
        made = (sqlite.insert if dialect == "sqlite" else postgresql.insert)(table)
        return made.on_conflict_do_nothing(index_elements=self._key_columns(table))

    def _set(self, connection: Any, table: Table, row: Row, key: Any) -> Receipt:
        """Set columns of a row that is there, but for what a person has set since."""
        columns = self._columns(table, row)
        values = {name: fitting.fitted(column, row.values[name], refuse=self._refuse) for name, column in columns}
        now = self._now(connection, table, row, key)
        left = [] if row.was is None or row.over else [name for name, column in columns if self._set_since(column, name, now, row.was, values)]
        there = {name: now.get(name) for name in left}
        if row.whole and left:
            return Receipt(row.key, "left", f"table {self.name}", there=there)
        if told := {column.name: values[name] for name, column in columns if name not in left}:
            connection.execute(update(table).where(_is(self._key_columns(table), key)).values(told))
        return Receipt(row.key, "updated", f"table {self.name}", left, there, {name: held for name, held in now.items() if name not in left})

    def _set_since(self, column: Column[Any], name: str, now: Mapping[str, Any], was: Mapping[str, Any], values: Mapping[str, Any]) -> bool:
        """Whether a column holds something else than was last written into it, and than is wanted: somebody has set it."""
        return name in now and not any(same(now[name], found_in(each)) for each in (self._as_held(column, was.get(name)), values[name]))

    def _as_held(self, column: Column[Any], value: Any) -> Any:
        try:
            return fitting.fitted(column, value, refuse=False)
        except fitting.Unfit:
            return value  # the column is another one since

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
        if self._known is None or any(_at(self._known, name) is None for name in wanted):
            self._known = self._seen(connection, wanted, {name for row in rows for name in row.columns_before})
        return self._known

    def _seen(self, connection: Any, wanted: dict[str, Any], before: Collection[str] = ()) -> Table:
        """The table, made or widened where it must be and may be."""
        dialect = self.engine.dialect.name
        if not inspect(connection).has_table(self._bare, self._schema or None):
            self._must_be_made()
            columns = [Column(_column(name), fitting.type_for(value, dialect)) for name, value in wanted.items()]
            options: dict[str, Any] = {"mysql_charset": "utf8mb4", "mariadb_charset": "utf8mb4", "schema": self._schema or None}
            Table(self._bare, MetaData(), Column(KEY_COLUMN, fitting.key_type(dialect), primary_key=True), *columns, **options).create(connection)
            return self._looked_up(connection)
        table = self._looked_up(connection)
        self._must_have_key(connection, table)
        missing = [(name, value) for name, value in wanted.items() if _at(table, name) is None]
        if missing and self._own:
            told = ", ".join(column.name for column in table.columns)
            raise Unusable(f"The table {self.name} has no column {', '.join(name for name, _ in missing)}. Its columns: {told}. Correct the mapping.")
        if lost := next((name for name, _ in missing if name in before), None):
            raise gone(lost, f"the table {self.name}", [column.name for column in table.columns])
        quote = self.engine.dialect.identifier_preparer
        for name, value in missing:
            kind = fitting.type_for(value, dialect).compile(self.engine.dialect)
            connection.execute(text(f"ALTER TABLE {quote.format_table(table)} ADD COLUMN {quote.quote(_column(name))} {kind}"))
        return self._looked_up(connection) if missing else table

    def _looked_up(self, connection: Any) -> Table:
        table = Table(self._bare, MetaData(), schema=self._schema or None, autoload_with=connection)
        return fitting.exact(table, self.engine.dialect.name)

    def _must_be_made(self) -> None:
        """Raises `Unusable` for a table that is not there and is somebody's own."""
        if self._own:
            raise Unusable(f"There is no table {self.name} in the database, and one with a key of its own is not made. Make it, or leave `key` out.")

    def _must_have_key(self, connection: Any, table: Table) -> None:
        """Raises `Unusable` for a table that cannot see to it that a row is written once."""
        columns = self._key_columns(table)
        if not self._own and not columns:
            raise Unusable(
                f"The table {self.name} has no column {KEY_COLUMN}. Add one with a unique index, name the columns of its own unique key as `key`, "
                "or name another table."
            )
        names = {column.name for column in columns}
        looked = inspect(connection)
        unique = [set(looked.get_pk_constraint(self._bare, self._schema or None)["constrained_columns"])]
        unique += [set(each["column_names"]) for each in looked.get_unique_constraints(self._bare, self._schema or None)]
        unique += [set(each["column_names"]) for each in looked.get_indexes(self._bare, self._schema or None) if each["unique"]]
        if len(columns) < len(self._own or (KEY_COLUMN,)) or names not in unique:
            told = ", ".join(self._own or (KEY_COLUMN,))
            raise Unusable(f"The table {self.name} has no unique index on {told}, so that it could take a row twice. Add one, or correct `key`.")

    def _add(self, connection: Any, table: Table, rows: list[Row]) -> None:
        """Insert rows, those of the same columns in one statement; it and what makes values fit is worked out once for them, and kept."""
        for names, some in groupby(rows, lambda row: tuple(row.values)):
            alike = list(some)
            if self._ready is None or self._ready[0] is not table or self._ready[1] != names:
                self._ready = (table, names, *self._made_ready(table, alike[0]))
            _, _, statement, names_of, ways = self._ready
            told = list(zip(*(way(alike) for way in ways), strict=True))
            connection.exec_driver_sql(statement, [dict(zip(names_of, each, strict=True)) for each in told] if names_of else told)

    def _made_ready(self, table: Table, row: Row) -> tuple[str, list[str], list[Callable[[Sequence[Row]], Sequence[Any]]]]:
        """The statement that inserts rows with the columns of one, the names of its parameters where they have names, and what gives each of them from rows, as
        the driver takes it: a column at a time."""
        dialect = self.engine.dialect
        own = "" if self._own else str(self._key_columns(table)[0].name)
        given = {str(column.name): (name, column) for name, column in self._columns(table, row)}
        blank = [] if self._own else [str(column.name) for column in table.columns if column.server_default is None]
        compiled = self._insert(table).compile(dialect=dialect, column_keys=list(dict.fromkeys([*blank, *given, *([own] if own else [])])))

        def way(column: str) -> Callable[[Sequence[Row]], Sequence[Any]]:
            if column == own:
                return lambda rows: [row.key for row in rows]
            if column not in given:
                return lambda rows: [None] * len(rows)
            name, found = given[column]
            fit, bound = fitting.fitter(found, refuse=self._refuse), found.type.dialect_impl(dialect).bind_processor(dialect)
            held = fit if bound is None else lambda value: bound(fit(value))
            return lambda rows: fitting.each_of([row.values[name] for row in rows], held)

        if compiled.positiontup is not None:
            return str(compiled), [], [way(column) for column in compiled.positiontup]
        named = [str(name) for name in compiled.bind_names.values()]
        return str(compiled), named, [way(column) for column in named]

    def _columns(self, table: Table, row: Row) -> list[tuple[str, Column[Any]]]:
        """The columns that a row has values for, by the names that the flow gives them; looked up once for rows of the same names."""
        names = tuple(row.values)
        if self._last is None or self._last[0] is not table or self._last[1] != names:
            self._last = (table, names, [(name, column) for name in names if (column := _at(table, name)) is not None])
        return self._last[2]


def _is(columns: Sequence[Column[Any]], key: Any) -> Any:
    return and_(*(column == part for column, part in zip(columns, key, strict=True)))


def _value(row: Row, table: Table, name: str) -> Any:
    """The value of a row for a column that a key names."""
    wanted = _at(table, name)
    return next((value for given, value in row.values.items() if _at(table, given) is wanted), None)


def _at(table: Table, name: str) -> Column[Any] | None:
    """The column that a flow means by a name: letter by letter, whatever its capitals, or as one that we made for it."""
    if name in table.c:
        return table.c[name]
    alike = [column for column in table.c if column.name.casefold() in (name.casefold(), _column(name))]
    return alike[0] if len(alike) == 1 else None


def _head(column: Column[Any]) -> Head:
    kind: Any = column.type
    try:
        held = kind.python_type
    except NotImplementedError:
        held = object
    told = (
        "number"
        if isinstance(kind, fitting.ExactNumber)
        else {"bool": "yes/no", "date": "date", "datetime": "date and time", "str": "text"}.get(held.__name__, "")
    )
    told = told or ("number" if held.__name__ in ("int", "float", "Decimal") else "")
    wanted = not column.nullable and column.server_default is None and column.autoincrement is not True and not column.identity
    return Head(column.name, told, wanted)


@lru_cache(maxsize=4096)
def _column(name: str) -> str:
    """A column name as databases like it: "Unit price" → unit_price."""
    made = "".join(c if c.isalnum() else "_" for c in name.strip().lower())
    return made[:60] or "value"


def _place(said: SqlTable, there: There) -> str:
    if said.connection is not None:
        parts = urlsplit(there.calling.connections.at(said.connection, ""))
        return f"sql:{parts.scheme}:{(parts.hostname or '').lower()}:{parts.port or ''}{parts.path}#{said.table}"
    path = path_of(str(said.url), there.home)
    return f"sql:sqlite:{from_home(path, there.home) if path else ''}#{said.table}"


def _former_place(said: SqlTable, there: There) -> str:
    if said.connection is not None:
        parts = urlsplit(there.calling.connections.at(said.connection, ""))
        return f"sql:{parts.scheme}://{parts.path.strip('/')}#{said.table}"
    return f"sql:sqlite://{path_of(str(said.url), there.home) or ''}#{said.table}"


def _build(said: SqlTable, there: There) -> SqlDestination:
    refuse = said.cannot_hold == "refuse"
    if said.connection is not None:
        name = said.connection
        return SqlDestination(lambda: there.calling.database(name), said.table, said.key, refuse=refuse)
    path = path_of(str(said.url), there.home)
    if path is None:
        raise Unusable(f"{said.url!r} is no file of a database, such as sqlite:///ledger.db.")
    engine = file_engine(path)
    return SqlDestination(lambda: engine, said.table, said.key, refuse=refuse)


KIND = DestinationKind(
    "sql",
    SqlTable,
    _place,
    _former_place,
    _build,
    lambda said: f"the table {said.table} of {said.connection or 'a database'}",
    lambda said, home: touched(said.url, home),
)
