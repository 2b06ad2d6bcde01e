"""What steps have sent out, rows aside, is taken back by the kind of step that sent it, as far as it can."""

from __future__ import annotations

import logging
import threading
from collections.abc import Mapping

from sqlalchemy import Connection

from metrikon.core.flows.problems import BadFlow
from metrikon.engine.catalog import Catalog
from metrikon.ports.clock import Clock
from metrikon.ports.step import Sent, StepFailed, TakesBack, Workshop
from metrikon.store import deliveries, outgoing
from metrikon.store.database import Database, StoreFailed
from metrikon.store.outgoing import Returning

log = logging.getLogger("metrikon.engine")
LOOK = 0.5  # seconds between looks
MOST_TRIES = 8  # with the waits below for two minutes: then a person is told that it stays
FIRST_WAIT, LONGEST_WAIT = 1000, 60_000  # milliseconds after a try that failed, doubled each time


class Undoing:
    """Takes back files and the like. `takers`: by the kind of step that sends it out, what takes it back."""

    def __init__(self, database: Database, catalog: Catalog, clock: Clock, takers: Mapping[str, TakesBack], workshop: Workshop) -> None:
        self._database, self._catalog, self._clock, self._takers, self._workshop = database, catalog, clock, takers, workshop
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._loop, name="taking back", daemon=True)

    def start(self) -> None:
        """Begin to take back, with what an earlier process left."""
        self._thread.start()

    def stop(self) -> None:
        """Let what is under way come to its end; the rest stays to be taken back."""
        self._stop.set()
        if self._thread.is_alive():
            self._thread.join()

    def taker(self, flow: str, version: int, path: str) -> TakesBack | None:
        """What takes back that which a step has sent out; None where nothing can."""
        own = path.rsplit("/", 1)[-1]
        try:
            steps = self._catalog.flow(flow, version).every_step
        except (KeyError, BadFlow):
            return None
        return next((self._takers.get(step.kind.name) for step in steps if step.name == own), None)

    def _loop(self) -> None:
        while not self._stop.wait(LOOK):
            try:
                with self._database.reading() as connection:
                    due = outgoing.returning(connection, self._clock.now())
                for each in due:
                    if not self._stop.is_set():
                        self._one(each)
            except StoreFailed as error:
                log.error("what was taken back could not be noted; it is looked at again: %s", error)
            except Exception:
                log.exception("what is to be taken back could not be looked up")

    def _one(self, found: Returning) -> None:
        take_back = self.taker(found.flow, found.flow_version, found.path)
        if take_back is None:
            self._stays(found, "Nothing here can take it back. Look there, and remove it by hand.")
            return
        if not found.result:
            self._stays(found, "What was sent is kept no longer, so that it cannot be told from something else. Look there, and remove it by hand.")
            return
        try:
            why = take_back(Sent(found.values, found.result), self._workshop)
        except StepFailed as error:
            self._later(found, error)
        except Exception as error:
            log.exception("taking back %s", found.key)
            self._stays(found, f"An error of the program kept it from being taken back ({type(error).__name__}: {error}).")
        else:
            self._stays(found, why) if why else self._gone(found)

    def _gone(self, found: Returning) -> None:
        now = self._clock.now()
        self._database.write(lambda connection: deliveries.move(connection, [found.key], "gone", done_at=now, error=None))

    def _stays(self, found: Returning, why: str) -> None:
        self._database.write(lambda connection: deliveries.move(connection, [found.key], "not taken back", error=why))

    def _later(self, found: Returning, error: StepFailed) -> None:
        if not error.again or found.attempts + 1 >= MOST_TRIES:
            self._stays(found, error.message)
            return
        own = min(LONGEST_WAIT, FIRST_WAIT * 2**found.attempts)
        due = self._clock.now() + (own if error.wait is None else max(own, int(error.wait * 1000)))

        def job(connection: Connection) -> None:
            deliveries.put_off(connection, [found.key], error.message, due)

        self._database.write(job)
