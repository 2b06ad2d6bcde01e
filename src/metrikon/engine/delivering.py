"""Rows on their way out: gathered over all runs, written in batches, one batch a destination at a time."""

from __future__ import annotations

import logging
import math
import threading
import time
from collections.abc import Callable, Collection, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from functools import partial
from itertools import groupby
from typing import Any

from sqlalchemy import Connection

from metrikon.core.deliveries.comparing import told
from metrikon.core.flows.model import Said, exhausted
from metrikon.core.flows.problems import BadFlow
from metrikon.engine.catalog import Catalog
from metrikon.engine.ending import Ending
from metrikon.engine.rows_out import Rows, end_of, entry_of, is_able, some_at_once, what_differs
from metrikon.engine.standing import tried_again
from metrikon.ports.behalf import BEHALF, RUNS
from metrikon.ports.clock import Clock
from metrikon.ports.destination import Broken, Busy, Destination, Partly, Receipt, Unsure, Unusable
from metrikon.ports.machine import short_of
from metrikon.store import deliveries, journal, runs, wanting
from metrikon.store.database import Database, StoreFailed
from metrikon.store.deliveries import Delivery
from metrikon.store.journal import Written

log = logging.getLogger("metrikon.deliveries")
LOOK = 0.5  # seconds between looks, whether anybody woke it or not
GATHER_ALL = 0.005  # seconds that rows gather before they are looked at; a destination gathers more by its rest after a batch
SOON = 0.02  # seconds until a destination that could not be built is looked at again
CUT_OFF = "The row was being handed over when that was cut off, and its destination cannot be asked whether it came. Look there: then say that it is there, or write it again."
CANNOT_REMOVE = "Its destination cannot take it back. Look there, and remove or mark it by hand."
FIRST_WAIT, LONGEST_WAIT = 1.0, 60.0  # seconds after a busy destination


class Deliveries:
    """Writes what runs have entered. `build` makes the adapter of a destination as a flow names it."""

    def __init__(self, database: Database, catalog: Catalog, clock: Clock, build: Callable[[Said], Destination], ending: Ending) -> None:
        self._database = database
        self._catalog = catalog
        self._clock = clock
        self._build = build
        self._ending = ending
        self._rows = Rows(database)
        self._adapters: dict[str, tuple[tuple[str, Any], Destination]] = {}  # by place, with what was said of it
        self._busy: set[str] = set()
        self._not_before: dict[str, float] = {}
        self._wake = threading.Event()
        self._stop = threading.Event()
        self._pool = ThreadPoolExecutor(8, thread_name_prefix="delivery")
        self._thread = threading.Thread(target=self._loop, name="deliveries", daemon=True)
        self.on_done: Callable[[], None] = lambda: None

    def start(self) -> None:
        """Begin to write, with what an earlier process left."""
        self._thread.start()

    def stop(self) -> None:
        """Finish the batches under way; the rest stays entered."""
        self._stop.set()
        self._wake.set()
        if self._thread.is_alive():
            self._thread.join()
        self._pool.shutdown(wait=True)

    def wake(self) -> None:
        """There may be rows to write."""
        self._wake.set()

    def _loop(self) -> None:
        again = 0.0
        while not self._stop.is_set():
            if self._wake.wait(min(again or LOOK, LOOK)):  # one destination that rests keeps no other from its rows
                self._stop.wait(GATHER_ALL)  # what comes close together goes together
            self._wake.clear()
            try:
                again = self._hand_out()
            except Exception:
                log.exception("deliveries could not be looked up")
                again = 1.0

    def _hand_out(self) -> float:
        """Start a batch for every destination that is free; seconds until one that is resting is due."""
        now = self._clock.now()
        soonest = 0.0
        with self._database.reading() as connection:
            cut_off = deliveries.cut_off(connection, list(self._busy))
            for destination in deliveries.places(connection, now):
                rest = self._not_before.get(destination, 0.0) - time.monotonic()
                if destination in self._busy:
                    continue
                if rest > 0:
                    soonest = min(soonest or rest, rest)
                    continue
                self._busy.add(destination)
                try:
                    self._pool.submit(self._deliver, destination)
                except BaseException:
                    self._busy.discard(destination)
                    raise
        for row in cut_off:
            self._cut_off(row.destination, [row], CUT_OFF)
        return soonest

    def _deliver(self, destination: str) -> None:
        """Write the rows that are due; looked up only now, so that none is sent that a batch before this one has written."""
        start = time.monotonic()
        try:
            with self._database.reading() as connection:
                now = self._clock.now()
                rows = deliveries.due(connection, destination, now)
                held = deliveries.held_up(connection, destination, now)
            self._in_order(destination, self._batches(destination, rows), held)
        except StoreFailed as error:
            log.error("%s: rows were written but could not be noted; they are looked up before they are repeated: %s", destination, error)
        except Exception:
            log.exception("rows for %s could not be looked up; they are looked up again", destination)
        finally:
            took = time.monotonic() - start
            known = self._adapters.get(destination)
            gather, rest = (known[1].gather, known[1].rest * took) if known is not None else (SOON, 0.0)
            self._not_before[destination] = time.monotonic() + max(gather, rest)
            self._busy.discard(destination)
            self._wake.set()
            self.on_done()

    def _batches(self, destination: str, rows: list[Delivery]) -> Iterator[list[Delivery]]:
        """Rows in batches that their destination takes at once; those that flows say otherwise of, such as how it is sorted, by themselves."""
        for _, alike in groupby(rows, self._as_said):
            some = list(alike)
            try:
                most = self._adapter(destination, some[0]).most  # known before the first row is handed over: what is cut off is no more than one call
            except Exception:  # whoever sends the rows tells what is wrong
                most = len(some)
            yield from (some[at : at + most] for at in range(0, len(some), max(1, most)))

    def _in_order(self, destination: str, parts: Iterable[list[Delivery]], held: Collection[str] = (), *, handed: bool = False) -> None:
        """Write some rows after the others. Where rows of a run stand one below the other, none goes before one that was put off or that nobody can tell of.

        `held`: the runs of which one was so when the rows were looked up; whatever is decided meanwhile counts from the next look on. `handed`: they were
        noted as handed over with those before them; what is not sent is handed over no longer.
        """
        behind = set(held)
        for some in parts:
            rows = [row for row in some if row.run_id not in behind] if self._ordered(destination) else some
            waits = [row.key for row in some if row not in rows]
            if waits and handed:
                self._database.write(partial(deliveries.handed_back, keys=waits))
            self._send(destination, rows)
            behind |= self._behind(destination, rows)

    def _behind(self, destination: str, rows: list[Delivery]) -> set[str]:
        """The runs of which nothing more is written for now, since one of these rows has not come to its end."""
        if not rows or not self._ordered(destination):
            return set()
        with self._database.reading() as connection:
            return deliveries.still_open(connection, [row.key for row in rows])

    def _ordered(self, destination: str) -> bool:
        """Whether rows stand one below the other there, in the order in which they are written."""
        known = self._adapters.get(destination)
        return known is not None and known[1].ordered

    def _send(self, destination: str, rows: list[Delivery]) -> None:
        """Write a batch. One that is not taken is parted, so that a row that is wrong keeps no other from being written."""
        if not rows:
            return
        try:
            adapter = self._adapter(destination, rows[0])
            rows = self._possible(adapter, rows)
            if not rows:
                return
            if adapter.ordered or adapter.can == "neither" or adapter.found_within or adapter.safe_for != math.inf:
                keys = [row.key for row in rows]
                self._database.write(lambda connection: deliveries.move(connection, keys, "hand over"))
            RUNS.set(tuple({row.run_id for row in rows}))
            receipts = adapter.write(self._rows.every(adapter, rows))
        except Partly as error:
            self._partly(destination, rows, error)
            return
        except Unsure as error:
            self._lost(destination, rows, error)
            return
        except Busy as error:
            self._later(rows, error)
            return
        except Broken as error:
            self._adapters.pop(destination, None)
            if len(rows) == 1 or isinstance(error, Unusable):
                self._failed(rows, str(error), again=False)
                return
            receipts = None
        except Exception as error:
            if len(rows) == 1:
                log.exception("delivery to %s", destination)
                message = f"An error of the program kept the row from being written ({type(error).__name__}: {error})."
                self._failed(rows, message, again=False)
                return
            receipts = None
        if receipts is not None:
            self._written(rows, receipts)
            return
        self._in_order(destination, _halves(rows), handed=True)

    def _partly(self, destination: str, rows: list[Delivery], error: Partly) -> None:
        """Some rows were written, then one was not."""
        count, reason = len(error.receipts), error.reason
        if count:
            self._written(rows[:count], list(error.receipts))
        if isinstance(reason, Busy):
            self._later(rows[count:], reason)
            return
        if isinstance(reason, Unusable):
            self._failed(rows[count:], str(reason), again=False)
            return
        concerned, rest = rows[count : count + error.concerns], rows[count + error.concerns :]
        if isinstance(reason, Unsure):
            self._lost(destination, concerned, reason)
        elif len(concerned) == 1:
            self._failed(concerned, str(reason), again=False)
        else:  # one of several in a call is wrong: the others need not wait for it
            self._in_order(destination, _halves(concerned), handed=True)
        if rest:
            self._in_order(destination, [rest], self._behind(destination, concerned), handed=True)

    def _lost(self, destination: str, rows: list[Delivery], error: Unsure) -> None:
        """Rows of which their destination could not tell; where it was asked already, a person is."""
        if error.looked:
            self._unsure(rows, str(error))
            return
        self._cut_off(destination, rows, str(error))

    def _cut_off(self, destination: str, rows: list[Delivery], message: str) -> None:
        """Rows that may have been written, or not: asked for again where the destination knows, for a person where it does not."""
        now = self._clock.now()
        try:
            adapter = self._adapter(destination, rows[0])
        except Exception as error:  # a connection or a flow that is gone: nobody can be asked then
            log.warning("%s cannot be asked whether rows came: %s", destination, error)
            adapter = None
        finds = adapter is not None and adapter.can == "finds"
        enforces = adapter is not None and adapter.can == "enforces" and all(now - row.begun_at <= adapter.safe_for * 1000 for row in rows)
        if adapter is None or not (finds or enforces):
            self._unsure(rows, message)
            return
        wait = int(adapter.found_within * 1000) if finds else int(FIRST_WAIT * 1000)
        asked = finds and adapter.ordered  # those that do not stand one below the other are looked up before each write
        self._database.write(lambda connection: deliveries.put_off(connection, [row.key for row in rows], message, now + wait, handed=asked))

    def _unsure(self, rows: list[Delivery], message: str) -> None:
        """Nobody can tell whether these rows were written: their runs wait for a person. Those that were to be taken back stand as they are, and that is told."""
        if returning := [row for row in rows if row.state == "returning"]:
            self._stays(returning, message)
        rows = [row for row in rows if row.state != "returning"]
        now = self._clock.now()
        entries: dict[str, list[Written]] = {}
        for row in rows:
            result = {"key": row.key, "result": "written", "place": ""}
            data = {"message": message, "again": False, "unsure": result, "sent": row.values}
            entries.setdefault(row.run_id, []).append(Written("failed", row.path, data, "write", now, now - row.begun_at))

        def job(connection: Connection) -> None:
            deliveries.move(connection, [row.key for row in rows], "lost", error=message)
            for run_id, written in entries.items():
                journal.append(connection, run_id, written)
            runs.wake(connection, list(entries), now)

        self._database.write(job)

    def _possible(self, adapter: Destination, rows: list[Delivery]) -> list[Delivery]:
        """The rows that a destination can do something with; of the others a person is told what is there, as far as that is known."""
        able = [row for row in rows if is_able(adapter, row)]
        others = [row for row in rows if not is_able(adapter, row)]
        returning = [row for row in others if row.state == "returning"]
        if returning:
            self._stays(returning, CANNOT_REMOVE)
        compared = [row for row in others if row.state != "returning"]
        if compared:
            self._written(compared, [self._rows.compared(row) for row in compared])
        return able

    def _adapter(self, destination: str, row: Delivery) -> Destination:
        said = self._said(row)
        known = self._adapters.get(destination)
        if known is None or known[0] != (said.kind, said.form):
            known = self._adapters[destination] = (said.kind, said.form), self._build(said)
        return known[1]

    def _as_said(self, row: Delivery) -> Any:
        """By what rows are parted; those whose flow is gone by its name."""
        try:
            said = self._said(row)
        except Exception:  # whoever writes the row tells why
            return row.flow, row.flow_version
        return said.kind, said.form

    def _said(self, row: Delivery) -> Said:
        """What the flow of a row says of its destination."""
        return self._catalog.flow(row.flow, row.flow_version).destinations[row.target]

    def _written(self, rows: list[Delivery], receipts: list[Receipt]) -> None:
        """Note rows that came to their end, each on behalf of its flow and few at a time: whoever wants the database meanwhile has not to wait for all of them."""
        pairs = list(zip(rows, receipts, strict=True))
        self._returned([(row, receipt) for row, receipt in pairs if row.state == "returning"])
        noted = [self._noted(some) for some in some_at_once([(row, receipt) for row, receipt in pairs if row.state != "returning"])]
        for future in noted:
            self._ending.forget(future.result())

    def _returned(self, pairs: list[tuple[Delivery, Receipt]]) -> None:
        """Note rows that were to be taken back: those that are gone, and those that somebody has changed since, which stay."""
        if not pairs:
            return
        stay = [(row, receipt) for row, receipt in pairs if receipt.there or receipt.left]
        gone = [row.key for row, receipt in pairs if not receipt.there and not receipt.left]
        now = self._clock.now()
        restored = [row.moved_from for row, _ in pairs if row.key in gone and row.purpose == "move" and row.moved_from]

        def job(connection: Connection) -> None:
            deliveries.move(connection, gone, "gone", done_at=now, error=None)
            deliveries.move(connection, restored, "restored")

        self._database.write(job)
        for row, receipt in stay:
            differs = told(what_differs(receipt, row.values))
            self._stays([row], f"It was changed since and stays: {differs or ', '.join(receipt.left)}")

    def _stays(self, rows: list[Delivery], why: str) -> None:
        """Rows that could not be taken back stand as they are; why is told."""

        def job(connection: Connection) -> None:
            deliveries.move(connection, [row.key for row in rows], "not taken back", error=why)
            for row in rows:
                deliveries.held_back(connection, row)

        self._database.write(job)

    def _noted(self, some: list[tuple[Delivery, Receipt]]) -> Future[list[str]]:
        """Note all rows of a few runs; the runs that have come to their end by that."""
        now = self._clock.now()
        ends = [end_of(row, receipt) for row, receipt in some]
        entries: dict[str, list[Written]] = {}
        for (row, receipt), end in zip(some, ends, strict=True):
            entries.setdefault(row.run_id, []).append(entry_of(row, receipt, end, now))
        ended = self._ending.ended(entries)
        moved = [row.moved_from for (row, _), end in zip(some, ends, strict=True) if row.moved_from and end.move == "written"]

        def job(connection: Connection) -> list[str]:
            deliveries.ended(connection, ends, now)
            deliveries.move(connection, moved, "correct")
            every = {run_id: list(written) for run_id, written in entries.items()}
            for _, run_id, path in wanting.waiting(connection, [end.key for end in ends]):
                data = {"message": "Another step has written this row; the two are compared.", "again": True, "turn": True, "wait": 0, "at": now}
                every.setdefault(run_id, []).append(Written("failed", path, data, "write", now, 0))
            settled = []
            for run_id, written in every.items():
                total = journal.append(connection, run_id, written)
                if self._ending.settle(connection, run_id, total, ended.get(run_id), now):
                    settled.append(run_id)
            runs.wake(connection, [each for each in every if each not in settled], now)
            return settled

        mine = BEHALF.set(some[0][0].flow)
        try:
            return self._database.submit(job)
        finally:
            BEHALF.reset(mine)

    def _later(self, rows: list[Delivery], error: Busy) -> None:
        """The destination takes them later: what the machine was short of, and that it was not one's turn, counts as no try."""
        self._failed(rows, str(error), again=True, counted=not short_of(error) and not error.turn, wait=error.wait)

    def _failed(self, rows: list[Delivery], message: str, *, again: bool, counted: bool = True, wait: float | None = None) -> None:
        """A batch was not taken: try it again later, or give it up and let its runs park. `counted`: it was one of its tries; `wait`: seconds that its destination asked for."""
        now = self._clock.now()
        over = [row for row in rows if not again or (counted and exhausted(row.most_attempts, row.attempts + 1, (now - row.begun_at) / 1000))]
        later = [row for row in rows if row not in over]
        if stay := [row for row in over if row.state == "returning"]:
            self._stays(stay, message)
        if lost := [row for row in over if row.handed]:
            self._unsure(lost, f"What came of them could not be asked. {message}")
        over = [row for row in over if row not in stay and row not in lost]

        def job(connection: Connection) -> None:
            if over:
                deliveries.move(connection, [row.key for row in over], "fail", error=message, attempts=deliveries.TRIED_ONCE_MORE)
                entries: dict[str, list[Written]] = {}
                for row in over:
                    data = {"message": message, "again": False}
                    entries.setdefault(row.run_id, []).append(Written("failed", row.path, data, "write", now, now - row.begun_at))
                handed_over(connection, entries, [row.key for row in over], now)
                for run_id, written in entries.items():
                    journal.append(connection, run_id, written)
                runs.wake(connection, list(entries), now)
            if later:
                tries = max(row.attempts for row in later)
                own = min(LONGEST_WAIT, FIRST_WAIT * 2**tries) * (0.85 + 0.3 * self._clock.chance())
                due = now + int(1000 * (own if wait is None else max(wait, own if counted else 0.0)))
                deliveries.put_off(connection, [row.key for row in later], message, due, counted=counted)
                for row in {row.run_id: row for row in later if row.state != "returning"}.values():
                    runs.told_why(connection, row.run_id, self._until(row, message, due) if counted else message)

        try:
            self._database.write(job)
        except StoreFailed as error:
            log.error("a failed delivery could not be noted: %s", error)

    def _until(self, row: Delivery, message: str, due: int) -> str:
        """Why a row waits, and until when."""
        try:
            zone = self._catalog.flow(row.flow, row.flow_version).zone
        except (KeyError, BadFlow):
            return message
        return tried_again(message, row.attempts + 1, due, zone)


def _halves(rows: list[Delivery]) -> tuple[list[Delivery], list[Delivery]]:
    half = len(rows) // 2
    return rows[:half], rows[half:]


def handed_over(connection: Connection, entries: dict[str, list[Written]], keys: list[str], now: int) -> None:
    """Rows that are given up: whoever waits for one enters it anew, as its own."""
    for _, run_id, path in wanting.waiting(connection, keys):
        data = {"message": "Another step that was to write this row has given it up.", "again": True, "wait": 0, "at": now}
        entries.setdefault(run_id, []).append(Written("failed", path, data, "write", now, 0))
