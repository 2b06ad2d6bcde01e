"""One that is urgent beside a back-fill of another flow: from its arrival until its rows are written, against the same alone."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from pathlib import Path

from bench.fixture import invoices
from bench.language import HEAD
from bench.report import Result, result
from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.demo import scenario
from metrikon.store import flows, listing
from metrikon.store.tables import runs

MOVING = ("ready", "running", "waiting")
NOTES = '  - {name: paper, read: {file: "${item.file}"}}\n  - {name: row, write: {to: table, key: ["${item.id}"], columns: {N: "${paper.pages}"}}}\n'


def one_urgent(folder: Path, less: int) -> list[Result]:
    """A note beside 2,000 notes; an invoice, with its workbook and its table, beside 400 invoices."""
    count = 2000 // less
    app = App(Settings(home=folder / "notes"))
    for name in ("crowd", "urgent"):
        app.catalog.put_flow(HEAD.format(name=name) + NOTES)
    notes = _beside(app, count, lambda number: f"a note {number}\n".encode() * 20)
    count = 400 // less
    bills = folder / "bills"
    invoices(bills, count + 20)
    app = App(Settings(home=folder / "invoices"))
    app.catalog.put_record_type("invoice", scenario.invoice_type())
    for name in ("crowd", "urgent"):
        text = scenario.flow_text().replace("name: supplier-invoices", f"name: {name}")
        app.catalog.put_flow(text.replace("path: invoices", f"path: {name}").replace("ledger.", f"{name}."))
    bill = _beside(app, count, lambda number: (bills / f"{number:05}.pdf").read_bytes())
    return [
        result(f"one {what} beside a back-fill of {many:,} / alone", one / two, "at most 3", lambda r: r <= 3, told)
        for what, many, (one, two, told) in (("note", 2000 // less, notes), ("invoice", count, bill))
    ]


def _beside(app: App, count: int, made: Callable[[int], bytes]) -> tuple[float, float, str]:
    """Seconds of one beside `count` of another flow, and alone (medians); both in words. The last 20 of what is made are the urgent ones."""
    app.start()
    try:
        alone = [_one(app, number, made(count + number)) for number in range(8)][1:]
        app.database.write(lambda connection: flows.pause_flow(connection, "crowd", True, "bench", app.clock.now()))
        for number in range(count):
            app.arrivals.begin("crowd", "upload", str(number), f"{number}.txt", made(number))
        app.database.write(lambda connection: flows.pause_flow(connection, "crowd", False, "bench", app.clock.now()))
        app.engine.wake()
        time.sleep(1)
        beside = [_one(app, number, made(count + number)) for number in range(10, 19)]
        with app.database.reading() as connection:
            moving = sum(many for state, many in listing.state_counts(connection).items() if state in MOVING)
    finally:
        app.close()
    one, two = statistics.median(beside), statistics.median(alone)
    return one, two, f"{one:.3f} s and {two:.3f} s; {moving:,} were still on their way"


def _one(app: App, number: int, data: bytes) -> float:
    start = time.perf_counter()
    sent = app.arrivals.take("urgent", "upload", str(number), f"{number}.txt", data)
    while time.perf_counter() - start < 60:
        with app.database.reading() as connection:
            state = connection.execute(runs.select().where(runs.c.id == sent.run_id)).mappings().one()["state"]
        if state not in MOVING:
            break
        time.sleep(0.003)
    return time.perf_counter() - start
