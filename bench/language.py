"""The flow language: expressions, decision tables, long lists, long journals, many that wait, one that is urgent."""

from __future__ import annotations

import sqlite3
import statistics
import threading
import time
from collections.abc import Callable
from decimal import Decimal
from functools import partial
from pathlib import Path
from typing import Any

import psutil
from sqlalchemy import insert, update

from bench.report import Result, result
from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.cli.service import SELDOM
from metrikon.core.decisions.deciding import decide
from metrikon.core.decisions.model import Table, table_from
from metrikon.core.feel import evaluate
from metrikon.core.values.exact import dumps
from metrikon.drivers.rubbish import look_seldom
from metrikon.engine.looking import state_of
from metrikon.store import journal, listing
from metrikon.store.journal import Written
from metrikon.store.tables import items, runs

CONDITION = 'order.total > 100 and order.currency = "EUR"'
HEAD = """
metrikon: 1
name: {name}
intakes: [{{kind: upload}}]
destinations: {{table: {{kind: sql, url: "sqlite:///{name}.db", table: rows}}}}
steps:
"""
ROWS = """
  - name: all
    each:
      of: ${{for i in 1..{count} return i}}
      as: number
      steps:
        - {{name: row, write: {{to: table, key: ["${{item.id}}", "${{number}}"], columns: {{N: "${{number}}"}}}}}}
"""


def _median(call: Callable[[], object], times: int, rounds: int = 7) -> float:
    """Seconds for one call, the middle of several rounds."""
    taken = []
    for _ in range(rounds):
        start = time.perf_counter()
        for _ in range(times):
            call()
        taken.append((time.perf_counter() - start) / times)
    return statistics.median(taken)


def expressions(folder: Path, less: int) -> list[Result]:
    """A simple condition in FEEL against the same in plain Python on `Decimal`."""
    scope: dict[str, Any] = {"order": {"total": Decimal("120.50"), "currency": "EUR"}}

    def plain() -> bool:
        order = scope["order"]
        return bool(order["total"] > Decimal(100) and order["currency"] == "EUR")

    own, theirs = _median(lambda: evaluate(CONDITION, scope), 20_000 // less), _median(plain, 20_000 // less)
    behind = f"{theirs * 1e6:.2f} µs in Python, {own * 1e6:.2f} µs in FEEL"
    return [result("plain Python / FEEL, a simple condition", theirs / own, "at least 0.05", lambda r: r >= 0.05, behind)]


def _table(count: int) -> Table:
    rules = [{"when": {"a": f"[{n}..{n + 1})", "b": f'"{n}"'}, "then": {"out": str(n)}} for n in range(count)]
    return table_from({"decision": "many", "inputs": [{"name": "a"}, {"name": "b"}], "outputs": [{"name": "out"}], "rules": rules})


def decision_tables(folder: Path, less: int) -> list[Result]:
    """A table of 1,000 rules against one of a single rule."""
    many, one = _table(1000), _table(1)
    long = _median(lambda: decide(many, {"a": Decimal(700), "b": "700"}), 200 // less)
    short = _median(lambda: decide(one, {"a": Decimal(0), "b": "0"}), 200 // less)
    behind = f"{long * 1e6:.0f} µs against {short * 1e6:.0f} µs"
    return [result("1,000 rules / one rule", long / short, "at most 20", lambda r: r <= 20, behind)]


def _settled(app: App, count: int, seconds: float = 300) -> None:
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        with app.database.reading() as connection:
            counts = listing.state_counts(connection)
        if sum(counts.get(state, 0) for state in ("done", "stopped", "refused")) >= count:
            return
        time.sleep(0.01)
    raise RuntimeError(f"not settled: {counts}")


def _run(folder: Path, steps: str, name: str = "rows") -> tuple[App, float]:
    app = App(Settings(home=folder))
    app.catalog.put_flow(HEAD.format(name=name) + steps)
    app.start()
    start = time.perf_counter()
    app.arrivals.take(name, "upload", None, "a.txt", b"first")
    _settled(app, 1)
    return app, time.perf_counter() - start


def long_lists(folder: Path, less: int) -> list[Result]:
    """`each` over 5,000 elements, each a row, against 500; and taking up again a run with 5,000 entries against reading its rows."""
    look_seldom(SELDOM)  # as the service does
    taken, grown = {}, {}
    process = psutil.Process()
    for count in (500, 5000):
        app, taken[count] = _run(folder / str(count), ROWS.format(count=count))
        grown[count] = process.memory_info().rss
        try:
            if count == 5000:
                resumed = _resumed(app)
        finally:
            app.close()
    return [
        result(
            "each, 5,000 elements / 500, time",
            taken[5000] / taken[500],
            "at most 11",
            lambda r: r <= 11,
            f"{taken[5000]:.2f} s and {taken[500]:.2f} s",
        ),
        result(
            "each, 5,000 elements / 500, memory",
            grown[5000] / grown[500],
            "at most 1.2",
            lambda r: r <= 1.2,
            f"{grown[5000] / 1e6:.0f} MB and {grown[500] / 1e6:.0f} MB",
        ),
        resumed,
    ]


def _resumed(app: App) -> Result:
    with app.database.reading() as connection:
        run = connection.execute(runs.select()).mappings().one()
        entries = len(journal.load(connection, run["id"]))

    def raw() -> object:
        with sqlite3.connect(app.home / "metrikon.db") as connection:
            return connection.execute("SELECT number, event, path, data, at FROM journal WHERE run_id = ? ORDER BY number", (run["id"],)).fetchall()

    own = _median(lambda: state_of(app.database, app.catalog, app.files, run["id"], run["flow"], run["flow_version"]), 1, 5)
    theirs = _median(raw, 1, 5)
    return result(
        f"taking up a run of {entries:,} entries / reading their rows",
        own / theirs,
        "at most 3",
        lambda r: r <= 3,
        f"{own * 1e3:.0f} ms and {theirs * 1e3:.0f} ms",
    )


def journal_steps(folder: Path, less: int) -> list[Result]:
    """Entries a second that several threads journal, against raw transactions of the same size, one after the other."""
    count, data = 2000 // less, {"result": {"key": "k1-" + "a" * 64, "result": "written", "place": "row 17"}}
    app = App(Settings(home=folder / "own"))
    try:
        app.catalog.put_flow(HEAD.format(name="rows") + ROWS.format(count=1))
        ids = [app.arrivals.take("rows", "upload", str(n), "a.txt", b"x" + str(n).encode()).run_id for n in range(8)]
        start = time.perf_counter()
        threads = [threading.Thread(target=_journal, args=(app, run, count // 8, data)) for run in ids]
        for each in threads:
            each.start()
        for each in threads:
            each.join()
        own = count / (time.perf_counter() - start)
    finally:
        app.close()
    with sqlite3.connect(folder / "raw.db", isolation_level=None) as raw:
        raw.execute("PRAGMA journal_mode=WAL")
        raw.execute("PRAGMA synchronous=FULL")
        raw.execute("CREATE TABLE journal (run TEXT, number INT, event TEXT, path TEXT, data BLOB, PRIMARY KEY (run, number))")
        start = time.perf_counter()
        for number in range(count):
            raw.execute("BEGIN IMMEDIATE")
            raw.execute("INSERT INTO journal VALUES (?, ?, ?, ?, ?)", ("r", number, "done", "a/b", dumps(data)))
            raw.execute("COMMIT")
        theirs = count / (time.perf_counter() - start)
    return [
        result(
            "entries journaled a second / raw transactions",
            own / theirs,
            "at least 0.5",
            lambda r: r >= 0.5,
            f"{own:,.0f} and {theirs:,.0f} a second",
        )
    ]


def _journal(app: App, run: str, count: int, data: dict[str, Any]) -> None:
    for _ in range(count):
        app.database.write(lambda connection: journal.append(connection, run, [Written("done", "a/b", data, "write", app.clock.now())]))


def many_waiting(folder: Path, less: int) -> list[Result]:
    """100,000 runs that wait against none: memory, and how soon one that comes due is woken."""
    count = 100_000 // less
    app = App(Settings(home=folder))
    app.catalog.put_flow(HEAD.format(name="rows") + "  - {name: rest, wait: {for: P300D}}\n")
    app.start()
    process = psutil.Process()
    sent = app.arrivals.take("rows", "upload", None, "a.txt", b"first")
    time.sleep(2)
    before = process.memory_info().rss
    far = app.clock.now() + 86_400_000 * 100
    for start in range(0, count, 5000):
        made = [(app.clock.new_id(), app.clock.new_id()) for _ in range(min(5000, count - start))]
        app.database.write(partial(_wait, made=made, far=far))
    time.sleep(3)
    after = process.memory_info().rss
    app.database.write(lambda connection: connection.execute(update(runs).where(runs.c.id == sent.run_id).values(wake_at=app.clock.now())))
    start_at, epoch = time.perf_counter(), _epoch(app, sent.run_id)
    while _epoch(app, sent.run_id) == epoch and time.perf_counter() - start_at < 30:
        time.sleep(0.005)
    woken = time.perf_counter() - start_at
    app.close()
    return [
        result(
            f"memory with {count:,} runs waiting / with one",
            after / before,
            "at most 1.1",
            lambda r: r <= 1.1,
            f"{after / 1e6:.0f} MB and {before / 1e6:.0f} MB",
        ),
        result("seconds until the one that is due is woken", woken, "at most 1", lambda r: r <= 1, f"{woken:.2f} s"),
    ]


def _wait(connection: Any, made: list[tuple[str, str]], far: int) -> None:
    shared = {"flow": "rows", "intake": "upload", "sha256": "0" * 64, "name": "a.txt", "size": 1, "received_at": 1}
    connection.execute(insert(items), [{**shared, "id": item, "identity": item} for item, _ in made])
    at = {
        "flow": "rows",
        "flow_version": 1,
        "state": "waiting",
        "reason": "",
        "wake_at": far,
        "epoch": 1,
        "entries": 1,
        "created_at": 1,
        "changed_at": 1,
    }
    spent = {"calls": 0, "input_tokens": 0, "output_tokens": 0, "cost": "0"}
    connection.execute(insert(runs), [{**at, **spent, "id": run, "item_id": item} for item, run in made])


def _epoch(app: App, run: str) -> int:
    with app.database.reading() as connection:
        return int(connection.execute(runs.select().where(runs.c.id == run)).mappings().one()["epoch"])
