"""What comes in: the file on disk and synced, then item and run in one commit, then the answer."""

from __future__ import annotations

import fnmatch
import hashlib
from collections.abc import Callable, Sequence
from concurrent.futures import Future
from typing import Any

from sqlalchemy import Connection

from metrikon.core.documents.bundling import bundled
from metrikon.core.flows.coming import Repeats
from metrikon.core.values.exact import dumps
from metrikon.core.values.text import clean
from metrikon.engine.opening import Opening
from metrikon.ports.clock import Clock
from metrikon.ports.files import Files
from metrikon.store import flows, items
from metrikon.store.database import Database
from metrikon.store.items import Arrival, Arrived
from metrikon.store.room import Room

Along = Callable[[Connection, Arrived], object]
RepeatsOf = Callable[[str, int, str, Any], Repeats]
IN_ROW = 64_000  # bytes that are kept in the row of an item


def named_as(name: str, patterns: Sequence[str]) -> bool:
    """Whether a name fits one of some patterns such as `*.pdf`, whatever its case."""
    return any(fnmatch.fnmatchcase(name.casefold(), each.casefold()) for each in patterns)


class NoFlow(Exception):
    """There is no such flow, or it takes nothing in."""


class Arrivals:
    """The way in for every intake."""

    def __init__(
        self, database: Database, files: Files, room: Room, clock: Clock, wake: Callable[[], None], opening: Opening, repeats: RepeatsOf
    ) -> None:
        self._repeats = repeats  # what becomes of equal content, by flow, its version, intake and what is known of a thing
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

    def take_opened(
        self,
        flow: str,
        intake: str,
        identity: str | None,
        name: str,
        data: bytes,
        *,
        asked: bool = False,
        about: Any = None,
        only: Sequence[str] = (),
        depth: int = 0,
    ) -> list[Arrived]:
        """As `take`, for an intake that opens archives and mails: an item for each file within, or one for the file itself.

        `only`: patterns of the names of files within that are taken (`*.pdf`), all without one; then nothing is taken where none is as wanted.
        """
        self._room.want()
        sha256 = self._files.put(data)
        every = self._opening.inner(data, sha256, flow)
        inner = [each for each in every if not only or named_as(each.name, only)]
        outer = identity or sha256
        if identity is not None or inner:
            held = {f"{outer}{each.place}": each.sha256 for each in every} or {outer: sha256}
            with self._database.reading() as connection:
                items.hold_the_same(connection, flow, intake, outer, held)
        if not inner and not only:
            return [self.begin(flow, intake, identity, name, data, asked=asked, about=about, depth=depth).result()]
        sent = [
            self.begin(
                flow, intake, f"{outer}{each.place}", f"{name}, {each.name}", self._files.get(each.sha256), asked=asked, about=about, depth=depth
            )
            for each in inner
        ]
        return [each.result() for each in sent]

    def together(self, flow: str, name: str, data: bytes, only: Sequence[str]) -> bytes:
        """A mail or an archive with the files in it, as one that is read as one; itself where it holds none that are wanted."""
        self._room.want()
        inner = self._opening.inner(data, self._files.put(data), flow)
        wanted = [each for each in inner if not only or named_as(each.name, only)]
        return bundled([(name, data), *((each.name, self._files.get(each.sha256)) for each in wanted)]) if wanted else data

    def begin(
        self,
        flow: str,
        intake: str,
        identity: str | None,
        name: str,
        data: bytes,
        *,
        asked: bool = False,
        about: Any = None,
        along: Along | None = None,
        in_row: bool = False,
        depth: int = 0,
    ) -> Future[Arrived]:
        """As `take`, without waiting: the future is set once item and run are committed. The order of calls is kept.

        `asked`: a person asked for this one, so that it is taken though the flow is switched off. `about`: what is known of it, as JSON. `along`: done in
        the same transaction. `in_row`: it may be kept in the row of its item when it is small, and in no file. `depth`: by how many flows it went before.
        """
        with self._database.reading() as connection:
            found = flows.standing(connection, flow)
            if found is None:
                raise NoFlow(flows.no_flow(connection, flow))
        version, running = found
        if not running and not asked:
            raise NoFlow(f"The flow {flow!r} is switched off and takes nothing in. Switch it on first.")
        self._room.want()
        small = in_row and len(data) <= IN_ROW
        sha256 = hashlib.sha256(data).hexdigest() if small else self._files.put(data)
        at = self._clock.now()
        ids = (self._clock.new_id(), self._clock.new_id())
        shown = clean(name.replace("\\", "/").rsplit("/", 1)[-1])[:255] or "unnamed"
        told = dumps(about) if about is not None else None
        if told is not None and len(told) > IN_ROW:
            told = None  # it is in the file
        known = items.shortened(identity) if identity else ids[0]
        arrival = Arrival(
            flow, version, intake, known, sha256, shown, len(data), told, data if small else None, self._repeats(flow, version, intake, about), depth
        )

        def job(connection: Connection) -> Arrived:
            arrived = items.arrive(connection, arrival, ids, at)
            if along is not None:
                along(connection, arrived)
            return arrived

        arrived = self._database.submit(job)
        arrived.add_done_callback(lambda _: self._wake())
        return arrived
