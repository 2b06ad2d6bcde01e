"""Databases: their addresses, what is touched by one, and reading a whole table."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import unquote

from sqlalchemy import Engine, MetaData, Table, create_engine, event, inspect, make_url, select
from sqlalchemy.exc import ArgumentError, DBAPIError, NoSuchModuleError, OperationalError, SQLAlchemyError

from metrikon.core.values.found import found_in
from metrikon.ports.destination import KEY_COLUMN, Broken, Busy, Unusable
from metrikon.ports.touching import Touched

SQLITE = "sqlite:///"


def engine_of(url: str) -> Engine:
    """An engine; one of SQLite begins each transaction as one that writes."""
    engine = create_engine(url, connect_args={"timeout": 2} if url.startswith("sqlite") else {})
    if url.startswith("sqlite"):

        @event.listens_for(engine, "connect")
        def _own(connection: Any, _: Any) -> None:
            connection.isolation_level = None

        @event.listens_for(engine, "begin")
        def _begin(connection: Any) -> None:
            connection.exec_driver_sql("BEGIN IMMEDIATE")

    return engine


def url_of(url: str, home: Path) -> str:
    """The database URL, a relative path of SQLite as the machine has it."""
    relative = url.startswith(SQLITE) and not url.startswith(SQLITE + "/")
    return f"{SQLITE}{home / url.removeprefix(SQLITE)}" if relative else url


def table_rows(url: str, name: str, most: int) -> tuple[list[str], Iterator[dict[str, Any]]]:
    """The columns of a table, and its rows by them, without our key. Raises `Busy`, `Broken` and `Unusable`."""
    try:
        engine = engine_of(url)
    except (ArgumentError, NoSuchModuleError, ImportError) as error:
        raise Unusable(f"The database URL cannot be used: {error}.") from error
    try:
        with engine.connect() as connection:
            if not inspect(connection).has_table(name):
                raise Broken(f"There is no table {name} in the database. Correct the flow.")
            table = Table(name, MetaData(), autoload_with=connection)
            heads = [column.name for column in table.columns if column.name != KEY_COLUMN]
            primary = list(table.primary_key.columns)
            query = select(*(table.c[head] for head in heads)).order_by(*primary).limit(most)
            rows = [{head: found_in(value) for head, value in zip(heads, row, strict=True)} for row in connection.execute(query)]
    except OperationalError as error:
        raise Busy(f"The table {name} cannot be looked into: {error.orig}.") from error
    except (DBAPIError, SQLAlchemyError) as error:
        raise Broken(f"The table {name} cannot be looked into: {getattr(error, 'orig', None) or error}.") from error
    finally:
        engine.dispose()
    return heads, iter(rows)


def touched(given: str, home: Path) -> Touched | None:
    """The file of a SQLite database, or the server of another one with the name of the database."""
    try:
        url = make_url(url_of(given, home))
    except ArgumentError:
        return None  # it is told when it is built
    if url.get_backend_name() != "sqlite":
        return Touched(address=f"{url.host or 'localhost'}{f':{url.port}' if url.port else ''}/{url.database or ''}")
    name = url.database or ""
    if name in ("", ":memory:"):
        return None
    return Touched(Path(unquote(name.removeprefix("file:").partition("?")[0]) if name.startswith("file:") else name))
