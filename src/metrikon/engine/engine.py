"""Runs are handed to workers as they come due; their leases are kept while the work goes on."""

from __future__ import annotations

import logging
import queue
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass

from sqlalchemy import Connection

from metrikon.engine.delivering import Deliveries
from metrikon.engine.work import Bench, Work
from metrikon.store import changes, leases
from metrikon.store.database import StoreFailed
from metrikon.store.leases import Claim, Shares

log = logging.getLogger("metrikon.engine")
TOGETHER = 0.01  # seconds


@dataclass(frozen=True)
class EngineSettings:
    """How many runs are worked on at once, and how long a lease lasts (milliseconds)."""

    workers: int = 40
    lease: int = 30_000
    poll: float = 0.5
    owner: str = "service"

    @property
    def share(self) -> int:
        """How many runs of one flow are worked on at once at most: some workers are left to the others."""
        return max(1, self.workers - max(1, self.workers // 8))


class Engine:
    """Workers, their leases, and the deliveries."""

    def __init__(self, bench: Bench, deliveries: Deliveries, settings: EngineSettings) -> None:
        self.bench = bench
        self.deliveries = deliveries
        self.settings = settings
        self._queue: queue.SimpleQueue[Claim | None] = queue.SimpleQueue()
        self._active: dict[str, Claim] = {}
        self._idle = settings.workers
        self._lock = threading.Lock()
        self._wake = threading.Event()
        self._stop = threading.Event()
        self._threads: list[threading.Thread] = []
        deliveries.on_done = self.wake

    @property
    def stopping(self) -> bool:
        """Whether the engine is on its way out: workers hand their runs on at the next step."""
        return self._stop.is_set()

    def start(self, before: Callable[[Connection], object] = lambda connection: None) -> None:
        """Release what an earlier process held, then begin. `before`: what must have been done in the database by then.

        Where the database takes no change yet, that is tried until it does.
        """
        self._before = before
        for number in range(self.settings.workers):
            self._threads.append(threading.Thread(target=self._worker, name=f"worker-{number}", daemon=True))
        self._threads += [
            threading.Thread(target=self._dispatch, name="dispatcher", daemon=True),
            threading.Thread(target=self._keep_leases, name="leases", daemon=True),
        ]
        for thread in self._threads:
            thread.start()

    def end_soon(self) -> None:
        """Be on the way out: no more steps are begun."""
        self._stop.set()
        self._wake.set()

    def stop(self, timeout: float = 20.0) -> None:
        """Let running steps finish; what does not finish in time is resumed by the next start."""
        self.end_soon()
        for _ in range(self.settings.workers):
            self._queue.put(None)
        clock = self.bench.workshop.clock
        end = clock.now() + int(timeout * 1000)
        for thread in self._threads:
            thread.join(max(0.0, (end - clock.now()) / 1000))
        self.deliveries.stop()

    def wake(self) -> None:
        """There may be runs to work on."""
        self._wake.set()

    def _prepared(self) -> bool:
        """Whether what must come before all else is done."""

        def job(connection: Connection) -> None:
            self._before(connection)
            leases.release_all(connection, self.bench.workshop.clock.now())

        try:
            self.bench.database.write(job)
        except StoreFailed as error:
            log.error("work cannot begin yet: %s", error)
            return False
        self.deliveries.start()
        return True

    def _dispatch(self) -> None:
        while not self._stop.is_set() and not self._prepared():
            self._stop.wait(2)
        tidy = 0
        while not self._stop.is_set():
            if self._wake.wait(self.settings.poll):
                self._stop.wait(TOGETHER)  # runs that come due close together are claimed together
            self._wake.clear()
            try:
                room = self._room()
                for claim in self._claim(room) if room and not self._stop.is_set() else ():
                    with self._lock:
                        self._active[claim.run_id] = claim
                        self._idle -= 1
                    self._queue.put(claim)
                tidy += 1
                if tidy % 2000 == 0:
                    self.bench.database.submit(changes.prune)
            except StoreFailed as error:
                log.error("runs could not be claimed: %s", error)
                self._stop.wait(2)
            except Exception:
                log.exception("runs could not be claimed")
                self._stop.wait(2)

    def _claim(self, room: int) -> list[Claim]:
        now, settings = self.bench.workshop.clock.now(), self.settings
        with self._lock:
            held = list(self._active.values())
        shares = Shares(settings.share, self.bench.workshop.catalog.at_once())
        return self.bench.database.write(lambda connection: leases.claim(connection, settings.owner, now, settings.lease, room, held, shares))

    def _renew(self, held: list[Claim]) -> None:
        until = self.bench.workshop.clock.now() + self.settings.lease
        self.bench.database.write(lambda connection: leases.renew(connection, held, until))

    def _room(self) -> int:
        if time.monotonic() < self.bench.rest.until:
            return 0
        with self._lock:
            return self._idle

    def _worker(self) -> None:
        while (claim := self._queue.get()) is not None:
            try:
                if not self._stop.is_set():
                    Work(self.bench, claim).go()
            finally:
                with self._lock:
                    if self._active.get(claim.run_id) == claim:
                        del self._active[claim.run_id]
                    self._idle += 1
                self.deliveries.wake()
                self._wake.set()

    def _keep_leases(self) -> None:
        while not self._stop.wait(self.settings.lease / 3000):
            with self._lock:
                held = list(self._active.values())
            if held:
                try:
                    self._renew(held)
                except StoreFailed as error:
                    log.error("leases could not be kept: %s", error)
