"""What every call out of the house asks the database for: read once, and again when anything was committed since."""

from __future__ import annotations

from collections.abc import Callable
from typing import Generic, TypeVar

from sqlalchemy import Connection

from metrikon.store.database import Database

T = TypeVar("T")


class Current(Generic[T]):
    """Something by its name, as the database holds it now. `read`: how it is read; what it gives is shared, and not to be changed."""

    def __init__(self, database: Database, read: Callable[[Connection, str], T]) -> None:
        self._database, self._read = database, read
        self._known: dict[str, tuple[int, T]] = {}

    def __getitem__(self, name: str) -> T:
        commits = self._database.commits  # before it is read: what is committed meanwhile counts as later
        known = self._known.get(name)
        if known is not None and known[0] == commits:
            return known[1]
        with self._database.reading() as connection:
            found = self._read(connection, name)
        if len(self._known) > MOST:
            self._known.clear()
        self._known[name] = commits, found
        return found


MOST = 1000  # names that are held
