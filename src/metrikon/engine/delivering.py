"""Rows on their way out: gathered over all runs, written in batches, one batch a destination at a time."""

from __future__ import annotations

import logging
import math
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from itertools import groupby
from typing import Any

from sqlalchemy import Connection

from metrikon.core.flows.keys import MARK, row_key
from metrikon.core.flows.model import Said
from metrikon.core.values.exact import loads
from metrikon.engine.catalog import Catalog
from metrikon.engine.ending import Ending
from metrikon.ports.behalf import BEHALF
from metrikon.ports.clock import Clock
from metrikon.ports.destination import Broken, Busy, Destination, Partly, Receipt, Row, Unsure, Unusable
from metrikon.ports.machine import short_of
from metrikon.store import deliveries, journal, runs
from metrikon.store.database import Database, StoreFailed
from metrikon.store.journal import Written

log = logging.getLogger("metrikon.deliveries")
LOOK = 0.5  # seconds between looks, whether anybody woke it or not
GATHER_ALL = 0.005  # seconds that rows gather before they are looked at; a destination gathers more by its rest after a batch
NOTED_AT_ONCE = 16  # rows that are noted in one job; more where one run has more
SOON = 0.02  # seconds until a destination that could not be built is looked at again
CUT_OFF = "The row was being handed over when that was cut off, and its destination cannot be asked whether it came. Look there: then say that it is there, or write it again."
FIRST_WAIT, LONGEST_WAIT = 1.0, 60.0  # seconds after a busy destination


class Deliveries:
    """Writes what runs have entered. `build` makes the adapter of a destination as a flow names it."""

    def __init__(self, database: Database, catalog: Catalog, clock: Clock, build: Callable[[Said], Destination], ending: Ending) -> None:
        self._database = database
        self._catalog = catalog
        self._clock = clock
        self._build = build
        self._ending = ending
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
            self._cut_off(str(row["destination"]), [row], CUT_OFF)
        return soonest

    def _deliver(self, destination: str) -> None:
        """Write the rows that are due; looked up only now, so that none is sent that a batch before this one has written."""
        start = time.monotonic()
        try:
            with self._database.reading() as connection:
                rows = deliveries.due(connection, destination, self._clock.now())
            for some in self._batches(destination, rows):
                self._send(destination, some)
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

    def _batches(self, destination: str, rows: list[dict[str, Any]]) -> Iterator[list[dict[str, Any]]]:
        """Rows in batches that their destination takes at once; those that flows say otherwise of, such as how it is sorted, by themselves."""
        known = self._adapters.get(destination)
        most = known[1].most if known is not None else len(rows)
        for _, alike in groupby(rows, self._as_said):
            some = list(alike)
            yield from (some[at : at + most] for at in range(0, len(some), max(1, most)))

    def _send(self, destination: str, rows: list[dict[str, Any]]) -> None:
        """Write a batch. One that is not taken is parted, so that a row that is wrong keeps no other from being written."""
        try:
            adapter = self._adapter(destination, rows[0])
            if adapter.can == "neither" or adapter.found_within or adapter.safe_for != math.inf:
                keys = [str(row["key"]) for row in rows]
                self._database.write(lambda connection: deliveries.sending(connection, keys))
            receipts = adapter.write([self._row(row) for row in rows])
        except Partly as error:
            self._partly(destination, rows, error)
            return
        except Unsure as error:
            self._cut_off(destination, rows, str(error))
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
        half = len(rows) // 2
        self._send(destination, rows[:half])
        self._send(destination, rows[half:])

    def _partly(self, destination: str, rows: list[dict[str, Any]], error: Partly) -> None:
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
        if isinstance(reason, Unsure):
            self._cut_off(destination, rows[count : count + 1], str(reason))
        else:
            self._failed(rows[count : count + 1], str(reason), again=False)
        if rows[count + 1 :]:
            self._send(destination, rows[count + 1 :])

    def _cut_off(self, destination: str, rows: list[dict[str, Any]], message: str) -> None:
        """Rows that may have been written, or not: asked for again where the destination knows, for a person where it does not."""
        now = self._clock.now()
        try:
            adapter = self._adapter(destination, rows[0])
        except Exception as error:  # a connection or a flow that is gone: nobody can be asked then
            log.warning("%s cannot be asked whether rows came: %s", destination, error)
            adapter = None
        finds = adapter is not None and adapter.can == "finds"
        enforces = adapter is not None and adapter.can == "enforces" and all(now - row["begun_at"] <= adapter.safe_for * 1000 for row in rows)
        if adapter is None or not (finds or enforces):
            self._unsure(rows, message)
            return
        wait = int(adapter.found_within * 1000) if finds else int(FIRST_WAIT * 1000)
        self._database.write(lambda connection: deliveries.failed(connection, [row["key"] for row in rows], message, now + wait))

    def _unsure(self, rows: list[dict[str, Any]], message: str) -> None:
        """Nobody can tell whether these rows were written: their runs wait for a person."""
        now = self._clock.now()
        entries: dict[str, list[Written]] = {}
        for row in rows:
            result = {"key": row["key"], "result": "written", "place": ""}
            values = row["values"] if isinstance(row["values"], dict) else loads(row["values"])
            data = {"message": message, "again": False, "unsure": result, "sent": values}
            entries.setdefault(row["run_id"], []).append(Written("failed", row["path"], data, "write", now, now - row["begun_at"]))

        def job(connection: Connection) -> None:
            deliveries.unsure(connection, [row["key"] for row in rows], message)
            for run_id, written in entries.items():
                journal.append(connection, run_id, written)
            runs.wake(connection, list(entries), now)

        self._database.write(job)

    def _row(self, row: dict[str, Any]) -> Row:
        """A row as its destination gets it: of the key what comes after the place, which the destination is itself."""
        key = str(row["key"])
        place, mark, own = key.rpartition(f"|{MARK}")
        if not mark:
            return Row(key, row["values"])
        own, sets = row_key(MARK + own)
        was = None
        if sets:
            with self._database.reading() as connection:
                was = deliveries.last_written(connection, f"{place}|{own}")
        return Row(own, row["values"], row["parts"] or (), sets, was, "over" in row["how"], "only" in row["how"])

    def _adapter(self, destination: str, row: dict[str, Any]) -> Destination:
        said = self._said(row)
        known = self._adapters.get(destination)
        if known is None or known[0] != (said.kind, said.form):
            known = self._adapters[destination] = (said.kind, said.form), self._build(said)
        return known[1]

    def _as_said(self, row: dict[str, Any]) -> Any:
        """By what rows are parted; those whose flow is gone by its name."""
        try:
            said = self._said(row)
        except Exception:  # whoever writes the row tells why
            return row["flow"], row["flow_version"]
        return said.kind, said.form

    def _said(self, row: dict[str, Any]) -> Said:
        """What the flow of a row says of its destination."""
        return self._catalog.flow(row["flow"], row["flow_version"]).destinations[row["target"]]

    def _written(self, rows: list[dict[str, Any]], receipts: list[Receipt]) -> None:
        """Note rows that were written, each on behalf of its flow and few at a time: whoever wants the database meanwhile has not to wait for all of them."""
        noted = [self._noted(some) for some in _few(list(zip(rows, receipts, strict=True)))]
        for future in noted:
            self._ending.forget(future.result())

    def _noted(self, some: list[tuple[dict[str, Any], Receipt]]) -> Future[list[str]]:
        """Note all rows of a few runs; the runs that have come to their end by that."""
        by_key = {row["key"]: (row, receipt) for row, receipt in some}
        now = self._clock.now()
        entries: dict[str, list[Written]] = {}
        for key, (row, receipt) in by_key.items():
            result = {"key": key, "result": receipt.result, "place": receipt.place, **({"left": list(receipt.left)} if receipt.left else {})}
            entries.setdefault(row["run_id"], []).append(_done(row, row["path"], result, now))
        ended = self._ending.ended(entries)

        def job(connection: Connection) -> list[str]:
            deliveries.done(connection, [(key, receipt.place, receipt.left) for key, (_, receipt) in by_key.items()], now)
            every = {run_id: list(written) for run_id, written in entries.items()}
            for key, run_id, path in deliveries.waiting(connection, list(by_key)):
                row, receipt = by_key[key]
                result = {"key": key, "result": "there already", "place": receipt.place, "by": row["run_id"]}
                every.setdefault(run_id, []).append(_done(row, path, result, now))
            settled = []
            for run_id, written in every.items():
                total = journal.append(connection, run_id, written)
                if self._ending.settle(connection, run_id, total, ended.get(run_id), now):
                    settled.append(run_id)
            runs.wake(connection, [each for each in every if each not in settled], now)
            return settled

        mine = BEHALF.set(str(some[0][0]["flow"]))
        try:
            return self._database.submit(job)
        finally:
            BEHALF.reset(mine)

    def _later(self, rows: list[dict[str, Any]], error: Busy) -> None:
        """The destination takes them later: what the machine was short of, and that it was not one's turn, counts as no try."""
        self._failed(rows, str(error), again=True, counted=not short_of(error) and not error.turn, wait=error.wait)

    def _failed(self, rows: list[dict[str, Any]], message: str, *, again: bool, counted: bool = True, wait: float | None = None) -> None:
        """A batch was not taken: try it again later, or give it up and let its runs park. `counted`: it was one of its tries; `wait`: seconds that its destination asked for."""
        now = self._clock.now()
        over = [row for row in rows if not again or (counted and row["attempts"] + 1 >= row["most_attempts"])]
        later = [row for row in rows if row not in over]

        def job(connection: Connection) -> None:
            if over:
                deliveries.failed(connection, [row["key"] for row in over], message, None)
                entries: dict[str, list[Written]] = {}
                for row in over:
                    data = {"message": message, "again": False}
                    entries.setdefault(row["run_id"], []).append(Written("failed", row["path"], data, "write", now, now - row["begun_at"]))
                handed_over(connection, entries, [row["key"] for row in over], now)
                for run_id, written in entries.items():
                    journal.append(connection, run_id, written)
                runs.wake(connection, list(entries), now)
            if later:
                tries = max(row["attempts"] for row in later)
                own = min(LONGEST_WAIT, FIRST_WAIT * 2**tries) * (0.85 + 0.3 * self._clock.chance())
                due = now + int(1000 * (own if wait is None else max(wait, own if counted else 0.0)))
                deliveries.failed(connection, [row["key"] for row in later], message, due, counted=counted)
                for run_id in {row["run_id"] for row in later}:
                    runs.told_why(connection, run_id, message)

        try:
            self._database.write(job)
        except StoreFailed as error:
            log.error("a failed delivery could not be noted: %s", error)


def _few(written: list[tuple[dict[str, Any], Receipt]]) -> Iterator[list[tuple[dict[str, Any], Receipt]]]:
    """Rows with their receipts, few at a time: of one flow each, and all of a run together, so that it goes on once."""
    by_run: dict[tuple[str, str], list[tuple[dict[str, Any], Receipt]]] = {}
    for row, receipt in written:
        by_run.setdefault((str(row["flow"]), str(row["run_id"])), []).append((row, receipt))
    some: list[tuple[dict[str, Any], Receipt]] = []
    for (flow, _), rows in sorted(by_run.items(), key=lambda pair: pair[0][0]):
        if some and (some[0][0]["flow"] != flow or len(some) + len(rows) > NOTED_AT_ONCE):
            yield some
            some = []
        some = some + rows
    if some:
        yield some


def _done(row: dict[str, Any], path: str, result: dict[str, Any], now: int) -> Written:
    return Written("done", path, {"result": result}, "write", now, now - row["begun_at"])


def handed_over(connection: Connection, entries: dict[str, list[Written]], keys: list[str], now: int) -> None:
    """Rows that are given up: whoever waits for one enters it anew, as its own."""
    for _, run_id, path in deliveries.waiting(connection, keys):
        data = {"message": "Another step that was to write this row has given it up.", "again": True, "wait": 0, "at": now}
        entries.setdefault(run_id, []).append(Written("failed", path, data, "write", now, 0))
