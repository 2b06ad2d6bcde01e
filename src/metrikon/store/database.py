"""One database, many readers, one writer: changes are gathered and committed together."""

from __future__ import annotations

import fcntl
import os
import sqlite3
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Future
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TypeVar

from sqlalchemy import Connection, Engine, create_engine, event
from sqlalchemy.exc import DBAPIError, SQLAlchemyError
from sqlalchemy.pool import QueuePool

from metrikon.ports.behalf import BEHALF
from metrikon.store.waiting import Waiting

T = TypeVar("T")
Job = Callable[[Connection], T]
MOST_TOGETHER = 200  # jobs in one commit
CLOSED = "The database is closed: the service is stopping."
ENDING = 5.0  # seconds that processes of a service which was killed are waited for
LOCKED = 5.0  # seconds that another program may hold the database


class StoreFailed(Exception):
    """The database could not take a change; nothing of it was kept. The message says why."""


class AlreadyOpen(Exception):
    """Another process owns this database."""


class Database:
    """A SQLite file owned by this process, in WAL mode, with every commit synced."""

    def __init__(self, path: Path) -> None:
        path.parent.mkdir(parents=True, exist_ok=True)
        self.path = path
        self._lock = _locked(path)
        self.engine = _engine(path, writes=False)
        self._writing = _engine(path, writes=True)
        self._jobs: Waiting[tuple[Job[Any], Future[Any]]] = Waiting()
        self._thread = threading.Thread(target=self._write, name="writer", daemon=True)
        self._started = False
        self.commits = 0  # changes that were kept since: as long as it is the same, whatever was read is still so

    def start(self) -> None:
        """Start the writer; call after the tables are there."""
        self._started = True
        self._thread.start()

    def close(self) -> None:
        """Commit what is waiting, then let the file go."""
        if not self._jobs.end():
            return
        if self._started:
            self._thread.join()
        while (left := self._jobs.next()) is not None:  # what came before there was a writer
            left[1][1].set_exception(StoreFailed(CLOSED))
        self.engine.dispose()
        self._writing.dispose()
        os.close(self._lock)

    @contextmanager
    def reading(self) -> Iterator[Connection]:
        """A connection for queries, seeing one state of the database throughout."""
        with self.engine.connect() as connection:
            connection.begin()  # by itself it would begin with the first statement that is none of `hot`
            yield connection

    def submit(self, job: Job[T]) -> Future[T]:
        """Have a job done by the writer. The future is set once it is committed and synced.

        A job may be done twice when another job in the same commit fails: it must only touch the
        connection it is given.
        """
        future: Future[T] = Future()
        if not self._jobs.put(BEHALF.get(), (job, future)):
            future.set_exception(StoreFailed(CLOSED))
        return future

    def write(self, job: Job[T]) -> T:
        """As `submit`, waiting for the result. Raises what the job raised, or `StoreFailed`."""
        return self.submit(job).result()

    def settle(self) -> None:
        """Bring what was committed into the file itself, so that nothing that was removed is left in its log."""
        self.write(lambda connection: None)
        with self.engine.connect() as connection:
            connection.connection.cursor().execute("PRAGMA wal_checkpoint(TRUNCATE)")

    def _write(self) -> None:
        with self._writing.connect() as connection:
            while (following := self._jobs.next()) is not None:
                party, first = following
                batch = [first]
                if not self._together(connection, party, batch):
                    for job, future in batch:
                        self._alone(connection, job, future)

    def _together(self, connection: Connection, party: str, batch: list[tuple[Job[Any], Future[Any]]]) -> bool:
        """All jobs in one commit, and those of the same party that come meanwhile; False when one failed and nothing was kept."""
        results = []
        try:
            with connection.begin():
                for job, _ in batch:
                    results.append(job(connection))
                    if len(batch) < MOST_TOGETHER and (more := self._jobs.more(party, len(batch))) is not None:
                        batch.append(more)
        except DBAPIError as error:
            if getattr(error.orig, "sqlite_errorcode", 0) & 0xFF != sqlite3.SQLITE_BUSY:
                return False
            for _, future in batch:  # it was waited for already: each alone would wait as long again
                future.set_exception(_failure(error))
            return True
        except Exception:
            return False
        self.commits += 1
        for (_, future), result in zip(batch, results, strict=True):
            future.set_result(result)
        return True

    def _alone(self, connection: Connection, job: Job[Any], future: Future[Any]) -> None:
        try:
            with connection.begin():
                result = job(connection)
        except SQLAlchemyError as error:
            future.set_exception(_failure(error))
        except Exception as error:
            future.set_exception(error)
        else:
            self.commits += 1
            future.set_result(result)


def _failure(error: SQLAlchemyError) -> StoreFailed:
    cause = getattr(error, "orig", None) or error
    busy = getattr(cause, "sqlite_errorcode", 0) & 0xFF == sqlite3.SQLITE_BUSY
    failure = StoreFailed(
        f"The database did not take the change: {cause}. {'Another program holds it; end that one.' if busy else 'Is the disk full or read-only?'}"
    )
    failure.__cause__ = error
    return failure


def _locked(path: Path) -> int:
    """The lock of a database, with the number of this process in it. Raises `AlreadyOpen`.

    Of a service that was killed the processes that read for it hold the lock until they have ended too: they are waited for.
    """
    handle = os.open(f"{path}.lock", os.O_RDWR | os.O_CREAT, 0o600)
    until = time.monotonic() + ENDING
    while True:
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            break
        except OSError as error:
            if time.monotonic() > until or not _is_over(handle):
                os.close(handle)
                raise AlreadyOpen(f"Another Metrikon service uses {path}. Stop it first, or give this one another folder.") from error
        time.sleep(0.05)
    os.ftruncate(handle, 0)
    os.pwrite(handle, str(os.getpid()).encode(), 0)
    return handle


def _is_over(handle: int) -> bool:
    """Whether the process that took a lock has ended."""
    try:
        os.kill(int(os.pread(handle, 20, 0) or b"0"), 0)
    except ProcessLookupError:
        return True
    except (ValueError, OSError):
        return False
    return False


def _engine(path: Path, *, writes: bool) -> Engine:
    engine = create_engine(
        f"sqlite:///{path}", poolclass=QueuePool, pool_size=1 if writes else 16, max_overflow=0 if writes else 32, connect_args={"timeout": LOCKED}
    )

    @event.listens_for(engine, "connect")
    def _settings(connection: Any, _: Any) -> None:
        connection.isolation_level = None
        cursor = connection.cursor()
        for setting in (
            "journal_mode=WAL",
            "synchronous=FULL",
            "foreign_keys=ON",
            "secure_delete=ON",
            f"cache_size={-4000 if writes else -256}",
            "temp_store=MEMORY",
        ):
            cursor.execute(f"PRAGMA {setting}")
        cursor.close()

    beginning = "BEGIN IMMEDIATE" if writes else "BEGIN"

    @event.listens_for(engine, "begin")
    def _begin(connection: Connection) -> None:
        driver: Any = connection.connection.driver_connection
        try:
            driver.execute(beginning)  # of every look and every change: by the driver itself
        except sqlite3.Error as error:
            raise DBAPIError(beginning, None, error) from error

    return engine
