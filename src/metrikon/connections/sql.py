"""Databases: files of SQLite, and servers (PostgreSQL, MariaDB) that a connection leads to, at the address that was checked."""

from __future__ import annotations

import ipaddress
import logging
import socket
import ssl
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

import pg8000.dbapi
import pymysql
from sqlalchemy import Connection, Engine, MetaData, Table, create_engine, event, inspect, make_url, select, text
from sqlalchemy.exc import ArgumentError, DBAPIError, OperationalError, SQLAlchemyError

from metrikon.connections.busy import busy
from metrikon.connections.fetching import FetchFailed, checked, trusting
from metrikon.core.flows.connecting import DATABASES, Way
from metrikon.core.values.found import found_in
from metrikon.ports.destination import KEY_COLUMN, Broken, Busy, Unusable
from metrikon.ports.touching import Touched

logging.getLogger("sqlalchemy.pool").setLevel(logging.CRITICAL)  # that a lost connection cannot be closed is no news: what it was needed for says so
SQLITE = "sqlite:///"
CONNECTS, ANSWERS = 10, 60  # seconds
DIALECTS = {"postgresql": "postgresql+pg8000", "mariadb": "mariadb+pymysql"}
# what may pass by itself: SQLSTATE classes and states of PostgreSQL (its manual, appendix A), numbers of MariaDB (its list of error codes)
_PASSING = ("08", "53", "57", "40001", "40P01", "55P03", "25006", "58")
_PASSING_NUMBERS = {1021, 1028, 1030, 1037, 1040, 1041, 1053, 1114, 1129, 1152, 1158, 1159, 1160, 1161, 1180, 1203, 1205, 1213, 1226, 1290, 1836}
_PASSING_NUMBERS |= {1927, 1969, 2002, 2003, 2006, 2013, 2014, 2055}


def file_engine(path: Path) -> Engine:
    """An engine for a file of SQLite, which begins each transaction as one that writes."""
    engine = create_engine(f"{SQLITE}{path}", connect_args={"timeout": 2})

    @event.listens_for(engine, "connect")
    def _own(connection: Any, _: Any) -> None:
        connection.isolation_level = None

    @event.listens_for(engine, "begin")
    def _begin(connection: Any) -> None:
        connection.exec_driver_sql("BEGIN IMMEDIATE")

    return engine


@contextmanager
def looking(engine: Engine) -> Iterator[Connection | None]:
    """A connection to look with; None for a file of SQLite that is not there: connecting would make it."""
    name = engine.url.database if engine.dialect.name == "sqlite" else None
    if name and not Path(name).exists():
        yield None
        return
    with engine.connect() as connection:
        yield connection


def server_engine(address: str, connect: Callable[[], Any]) -> Engine:
    """An engine for a server. `connect`: a new connection to it, signed in; it may raise `FetchFailed`."""
    return create_engine(
        f"{DIALECTS[urlsplit(address).scheme]}://", creator=connect, pool_size=2, max_overflow=6, pool_recycle=300, pool_pre_ping=True
    )


def signed_in(address: str, way: Way, secret: str, *, private: bool, trusted: str = "") -> Any:
    """A connection of the driver, signed in. Over a network only by TLS, with a certificate that is trusted. Raises `FetchFailed`."""
    parts = urlsplit(address)
    host, port, base = parts.hostname or "", parts.port or DATABASES[parts.scheme], unquote(parts.path.strip("/"))
    at = checked(host, port, private=private)
    context = None if ipaddress.ip_address(at.partition("%")[0]).is_loopback else trusting(trusted)
    opened = None
    try:
        opened = socket.create_connection((at, port), CONNECTS)
        opened.settimeout(ANSWERS)
        return (_postgresql if parts.scheme == "postgresql" else _mariadb)(opened, host, base, way.user, secret, context)
    except BaseException as error:
        if opened is not None:
            opened.close()
        if not isinstance(error, (OSError, pg8000.dbapi.Error, pymysql.Error)):
            raise
        raise _not_let_in(error, f"{host}:{port}", base, way.user) from error


def _postgresql(opened: socket.socket, host: str, base: str, user: str, secret: str, context: ssl.SSLContext | None) -> Any:
    made = pg8000.dbapi.connect(user, host, base, password=secret, ssl_context=context or False, sock=opened, application_name="Metrikon")
    cursor = made.cursor()
    cursor.execute("SET lock_timeout = '5s'")
    cursor.execute("SET statement_timeout = '50s'")
    made.commit()
    return made


def _mariadb(opened: socket.socket, host: str, base: str, user: str, secret: str, context: ssl.SSLContext | None) -> Any:
    made = pymysql.connect(
        host=host,
        user=user,
        password=secret,
        database=base,
        charset="utf8mb4",
        defer_connect=True,
        ssl=context,
        read_timeout=ANSWERS,
        write_timeout=ANSWERS,
        init_command="SET sql_mode = 'STRICT_ALL_TABLES,NO_ZERO_DATE,ERROR_FOR_DIVISION_BY_ZERO', innodb_lock_wait_timeout = 5, "
        "max_statement_time = 50, tx_isolation = 'READ-COMMITTED'",
    )
    made.connect(opened)
    if context is not None and not isinstance(made._sock, ssl.SSLSocket):
        made.close()
        raise FetchFailed(f"{host} offers no TLS, and rows are not sent over a network in the clear.")
    return made


def _not_let_in(error: BaseException, where: str, base: str, user: str) -> FetchFailed:
    if isinstance(error, ssl.SSLError):
        return FetchFailed(f"{where} does not prove to be what it is named: {error.reason or 'its certificate is not trusted'}.")
    state = _state(error)
    if state[:2] == "28" or state in ("1045", "1698"):
        return FetchFailed(f"{where} does not let {user} in: wrong user or secret, or it is no longer valid.", status=401)
    if state in ("3D000", "1049", "1044"):
        return FetchFailed(f"{where} has no database {base!r} that {user} may use.", status=404)
    return FetchFailed(f"{where} does not answer as a database: {words(error) or type(error).__name__}.", cause="unreachable")


def _state(error: Any) -> str:
    """The SQLSTATE of an error of PostgreSQL, or the number of one of MariaDB; empty for others."""
    given = error.args[0] if getattr(error, "args", ()) else ""
    return str(given.get("C", "")) if isinstance(given, dict) else str(given) if isinstance(given, int) else ""


def words(error: Any) -> str:
    """What a driver says of an error, in words."""
    given = getattr(error, "args", ()) or ("",)
    told = given[0].get("M", "") if isinstance(given[0], dict) else given[-1]
    return str(told or error).strip().rstrip(".")[:300]


def passing(error: SQLAlchemyError) -> bool:
    """Whether an error may pass by itself: locks, a server that is down, full or read-only for now."""
    if isinstance(error, DBAPIError):
        state = _state(error.orig)
        down = isinstance(error.orig, OSError | pg8000.dbapi.InterfaceError | pymysql.err.InterfaceError) or error.connection_invalidated
        return (
            down
            or state.startswith(_PASSING)
            or (state.isdecimal() and int(state) in _PASSING_NUMBERS)
            or (not state and isinstance(error, OperationalError))
        )
    return False


def failed(error: SQLAlchemyError, what: str) -> Busy | Broken:
    """An error as a destination tells it. `what`: what did not come to be, such as "The table x did not take the rows"."""
    told = f"{what}: {words(getattr(error, 'orig', None) or error)}."
    return Busy(f"{told} It is tried again.") if passing(error) else Broken(told)


def told(engine: Engine, user: str) -> str:
    """What a look at a database found: as whom, which tables there are, and whether one may make some."""
    with engine.connect() as connection:
        server = str(connection.execute(text("SELECT version()")).scalar_one()).split(" on ")[0].split(" (")[0]
        tables = sorted(inspect(connection).get_table_names())
        if engine.dialect.name == "postgresql":
            makes = bool(connection.execute(text("SELECT has_schema_privilege(current_schema(), 'CREATE')")).scalar_one_or_none())
        else:
            grants = " ".join(str(each) for each in connection.execute(text("SHOW GRANTS")).scalars())
            makes = "ALL PRIVILEGES" in grants or "CREATE" in grants
    listed = f"{', '.join(tables[:12])}{' and others' if len(tables) > 12 else ''}" if tables else "none yet"
    kind = "" if server.lower().startswith("postgresql") else "MariaDB "
    return f"{kind}{server} let {user} in, who {'may' if makes else 'may not'} make tables. Tables: {listed}."


def path_of(url: str, home: Path) -> Path | None:
    """The file of a SQLite address, as the machine has it; None for another address."""
    if not url.startswith(SQLITE):
        return None
    given = unquote(url.removeprefix(SQLITE).removeprefix("file:").partition("?")[0])
    return Path(given) if given.startswith("/") else home / given if given and given != ":memory:" else None


def table_rows(engine: Engine, name: str, most: int) -> tuple[list[str], Iterator[dict[str, Any]]]:
    """The columns of a table, and its rows by them, without our key. Raises `Busy`, `Broken` and `Unusable`."""
    schema, _, bare = name.rpartition(".")
    try:
        with engine.connect() as connection:
            if not inspect(connection).has_table(bare, schema or None):
                raise Broken(f"There is no table {name} in the database. Correct the flow.")
            table = Table(bare, MetaData(), schema=schema or None, autoload_with=connection)
            heads = [column.name for column in table.columns if column.name != KEY_COLUMN]
            primary = list(table.primary_key.columns)
            query = select(*(table.c[head] for head in heads)).order_by(*primary).limit(most)
            rows = [{head: found_in(value) for head, value in zip(heads, row, strict=True)} for row in connection.execute(query)]
    except FetchFailed as error:
        raise (busy(error) if error.cause else Unusable(str(error))) from error
    except SQLAlchemyError as error:
        raise failed(error, f"The table {name} cannot be looked into") from error
    return heads, iter(rows)


def touched(given: str | None, home: Path) -> Touched | None:
    """The file of a SQLite database. What a connection leads to is for whoever made the connection."""
    path = path_of(given or "", home)
    if path is not None or not given:
        return Touched(path) if path is not None else None
    try:
        url = make_url(given)
    except ArgumentError:
        return None  # it is told when it is built
    return (
        None
        if url.get_backend_name() == "sqlite"
        else Touched(address=f"{url.host or 'localhost'}{f':{url.port}' if url.port else ''}/{url.database or ''}")
    )
