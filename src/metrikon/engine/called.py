"""The record of the calls that are made by connections: kept a few at a time, for a commit takes longer than many a call."""

from __future__ import annotations

import threading
from collections.abc import Mapping
from concurrent.futures import Future, wait
from typing import Any

from sqlalchemy import Connection

from metrikon.store import connections
from metrikon.store.database import Database

SOON = 0.25  # seconds after which a call stands in the record at the latest


class Called:
    """Calls that were made, on their way into the record."""

    def __init__(self, database: Database) -> None:
        self._database = database
        self._waiting: list[Mapping[str, Any]] = []
        self._soon: threading.Timer | None = None
        self._last: Future[None] | None = None
        self._lock = threading.Lock()

    def note(self, row: Mapping[str, Any]) -> None:
        """A call was made (columns of `outside_calls`)."""
        with self._lock:
            self._waiting.append(row)
            if self._soon is None:
                self._soon = threading.Timer(SOON, self._begin)
                self._soon.daemon = True
                self._soon.start()

    def settle(self) -> None:
        """Have all of them stand in the record; one that the database does not take is missing there."""
        self._begin()
        with self._lock:
            last = self._last
        if last is not None:
            wait([last])

    def _begin(self) -> None:
        with self._lock:
            if self._soon is not None:
                self._soon.cancel()
                self._soon = None
            rows, self._waiting = self._waiting, []
            if rows:
                self._last = self._database.submit(lambda connection: _kept(connection, rows))


def _kept(connection: Connection, rows: list[Mapping[str, Any]]) -> None:
    for row in rows:
        connections.note_call(connection, row)
