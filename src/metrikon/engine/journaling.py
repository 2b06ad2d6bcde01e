"""What one worker writes into the journal of the run that it has claimed: gathered until something must be kept, then all of it in one commit."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TypeVar

from sqlalchemy import Connection

from metrikon.store import journal
from metrikon.store.database import Database
from metrikon.store.journal import Written
from metrikon.store.leases import Claim

T = TypeVar("T")


class Journaling:
    """The journal of a claimed run. `known`: entries that this worker has seen or written; `foreign`: others added some meanwhile."""

    def __init__(self, database: Database, claim: Claim) -> None:
        self._database = database
        self._claim = claim
        self._pending: list[Written] = []
        self.known = 0
        self.foreign = False

    def later(self, entry: Written) -> None:
        """An entry that is written with the next that must be."""
        self._pending.append(entry)

    def write(self, entries: Sequence[Written]) -> None:
        """Write entries, and those that were left for later. Raises `LeaseLost` and `StoreFailed`; then nothing was kept."""
        self.commit(lambda connection: (None, entries))

    def commit(self, make: Callable[[Connection], tuple[T, Sequence[Written]]]) -> T:
        """Write the entries that are made in the transaction that writes them; what was made besides is returned. Raises as `write`."""
        earlier = list(self._pending)

        def job(connection: Connection) -> tuple[int, T, int]:
            made, entries = make(connection)
            return journal.append(connection, self._claim.run_id, [*earlier, *entries], self._claim), made, len(entries)

        total, made, count = self._database.write(job)
        self._pending = []  # only now: a commit that fails takes nothing with it that came before
        self.known += len(earlier) + count
        if total != self.known:
            self.foreign = True
        return made

    def last(self, finish: Callable[[Connection, bool], T]) -> T:
        """Write what is left, and do what ends the work on the run. `finish` is told whether others added entries meanwhile."""
        earlier = list(self._pending)

        def job(connection: Connection) -> T:
            total = journal.append(connection, self._claim.run_id, earlier, self._claim)
            return finish(connection, self.foreign or total != self.known + len(earlier))

        found = self._database.write(job)
        self._pending = []
        self.known += len(earlier)
        return found
