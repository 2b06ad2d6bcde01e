"""What comes in: the file on disk and synced, then item and run in one commit, then the answer."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future

from metrikon.core.values.text import clean
from metrikon.engine.opening import Opening
from metrikon.ports.clock import Clock
from metrikon.ports.files import Files
from metrikon.store import flows, items
from metrikon.store.database import Database
from metrikon.store.items import Arrival, Arrived
from metrikon.store.room import Room


class NoFlow(Exception):
    """There is no such flow, or it takes nothing in."""


class Arrivals:
    """The way in for every intake."""

    def __init__(self, database: Database, files: Files, room: Room, clock: Clock, wake: Callable[[], None], opening: Opening) -> None:
        self._opening = opening
        self._database = database
        self._files = files
        self._room = room
        self._clock = clock
        self._wake = wake

    def take(self, flow: str, intake: str, identity: str | None, name: str, data: bytes) -> Arrived:
        """Take a file in; the same identity gets the same answer. Without one, every call is a new item.

        Raises `NoFlow`, `OtherContent` when the identity was that of something else, `NoRoom` when the disk is nearly full, and `StoreFailed` when it could not be kept: then the
        sender must send again.
        """
        return self.begin(flow, intake, identity, name, data).result()

    def take_opened(self, flow: str, intake: str, identity: str | None, name: str, data: bytes, *, asked: bool = False) -> list[Arrived]:
        """As `take`, for an intake that opens archives and mails: an item for each file within, or one for the file itself."""
        self._room.want()
        sha256 = self._files.put(data)
        inner = self._opening.inner(data, sha256, flow)
        outer = identity or sha256
        if identity is not None or inner:
            held = {f"{outer}{each.place}": each.sha256 for each in inner} or {outer: sha256}
            with self._database.reading() as connection:
                items.hold_the_same(connection, flow, intake, outer, held)
        if not inner:
            return [self.begin(flow, intake, identity, name, data, asked=asked).result()]
        sent = [self.begin(flow, intake, f"{outer}{each.place}", f"{name}, {each.name}", self._files.get(each.sha256), asked=asked) for each in inner]
        return [each.result() for each in sent]

    def begin(self, flow: str, intake: str, identity: str | None, name: str, data: bytes, *, asked: bool = False) -> Future[Arrived]:
        """As `take`, without waiting: the future is set once item and run are committed. The order of calls is kept.

        `asked`: a person asked for this one, so that it is taken though the flow is switched off.
        """
        with self._database.reading() as connection:
            found = flows.standing(connection, flow)
        if found is None:
            raise NoFlow(f"There is no flow {flow!r}. Put it first, or name one that is there.")
        version, running = found
        if not running and not asked:
            raise NoFlow(f"The flow {flow!r} is switched off and takes nothing in. Switch it on first.")
        self._room.want()
        sha256 = self._files.put(data)
        at = self._clock.now()
        ids = (self._clock.new_id(), self._clock.new_id())
        shown = clean(name.replace("\\", "/").rsplit("/", 1)[-1])[:255] or "unnamed"
        arrival = Arrival(flow, version, intake, identity or ids[0], sha256, shown, len(data))
        arrived = self._database.submit(lambda connection: items.arrive(connection, arrival, ids, at))
        arrived.add_done_callback(lambda _: self._wake())
        return arrived
