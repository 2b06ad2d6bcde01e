"""Files that have ended the process that opened them, by the hash of their bytes: for a week, and for this version of the service."""

from __future__ import annotations

from sqlalchemy import ColumnElement, Connection, delete, select
from sqlalchemy.dialects.sqlite import insert

from metrikon import __version__
from metrikon.core.values.text import clean
from metrikon.ports.clock import Clock
from metrikon.store.database import Database
from metrikon.store.tables_out import deaths

KEPT = (
    7 * 86_400_000
)  # milliseconds: long enough that no intake brings it again at once, short enough that a machine which was short of memory is forgiven
LONGEST = 200  # characters of a name


class KeptDeaths:
    """Deaths of the folder of a service (`ports.deaths.Deaths`); those that count are at hand."""

    def __init__(self, database: Database, clock: Clock) -> None:
        self._database, self._clock = database, clock
        with database.reading() as connection:
            self._at_hand = {sha256: count for sha256, _, count in self._counted(connection)}

    def any(self) -> bool:
        return bool(self._at_hand)

    def count(self, sha256: str) -> int:
        if sha256 not in self._at_hand:
            return 0
        with self._database.reading() as connection:
            known = {each: count for each, _, count in self._counted(connection)}
        self._at_hand = known
        return known.get(sha256, 0)

    def note(self, sha256: str, name: str) -> None:
        values = {"sha256": sha256, "name": clean(name)[:LONGEST], "count": 1, "at": self._clock.now(), "version": __version__}

        def put(connection: Connection) -> None:
            connection.execute(delete(deaths).where(self._forgiven()))
            new = insert(deaths).values(**values)
            more = {"count": deaths.c.count + 1, "at": values["at"], "name": values["name"]}
            connection.execute(new.on_conflict_do_update(index_elements=["sha256"], set_=more))

        self._database.write(put)
        self._at_hand[sha256] = self._at_hand.get(sha256, 0) + 1

    def set_aside(self, least: int) -> list[tuple[str, str]]:
        """Name and hash of the files that have at least so many."""
        with self._database.reading() as connection:
            return [(name, sha256) for sha256, name, count in self._counted(connection) if count >= least]

    def _counted(self, connection: Connection) -> list[tuple[str, str, int]]:
        query = select(deaths.c.sha256, deaths.c.name, deaths.c.count.label("deaths")).where(~self._forgiven()).order_by(deaths.c.at)
        return [(row.sha256, row.name, row.deaths) for row in connection.execute(query)]

    def _forgiven(self) -> ColumnElement[bool]:
        return (deaths.c.at < self._clock.now() - KEPT) | (deaths.c.version != __version__)


def forget(connection: Connection, sha256: str) -> int:
    """A file that is forgotten is known no longer; how many were."""
    return connection.execute(delete(deaths).where(deaths.c.sha256 == sha256)).rowcount
