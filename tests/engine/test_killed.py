"""Killed with -9 at random moments while invoices come in: every item settled, every row there exactly once in table and workbook."""

from __future__ import annotations

import random
import sqlite3
import time
from collections import Counter
from pathlib import Path

from openpyxl import load_workbook
from sqlalchemy import text

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.core.values.exact import loads
from metrikon.demo import scenario
from metrikon.demo.invent import Invented, invent
from tests.helpers import at_rest
from tests.killing import kill, serve

ITEMS, KILLS = 12, 5


def drop(home: Path, bill: Invented) -> None:
    aside = home / "invoices" / f".{bill.name}.pdf"
    aside.write_bytes(bill.data)
    aside.rename(home / "invoices" / f"{bill.name}.pdf")


def test_kills_while_invoices_come_in_lose_nothing_and_write_nothing_twice(tmp_path: Path, seed: int) -> None:
    home = tmp_path / "home"
    app = App(Settings(home=home))
    app.catalog.put_record_type("invoice", scenario.invoice_type())
    app.catalog.put_flow(scenario.flow_text().replace("settled: 0.5", "settled: 0"))
    app.close()
    (home / "invoices").mkdir()
    dice = random.Random(seed)
    bills = list(invent(seed, ITEMS))
    waiting = list(bills)
    for number in range(KILLS):
        for _ in range(2):
            if waiting and number < KILLS - 2:
                drop(home, waiting.pop())
        process = serve(home)
        assert process.stdout is not None
        assert process.stdout.readline().startswith(b"Metrikon is ready")
        time.sleep(dice.uniform(0.0, 1.1))
        kill(process)
    for bill in waiting:
        drop(home, bill)
    last = App(Settings(home=home))
    try:
        last.start()
        counts = at_rest(last, ITEMS, 120)
        assert set(counts) <= {"done", "review"}, counts
        assert sum(counts.values()) == ITEMS
        with last.database.reading() as connection:
            query = 'SELECT r.state, c."values" FROM runs r JOIN records c ON c.run_id = r.id'
            records = [(state, loads(values)) for state, values in connection.execute(text(query))]
            assert connection.execute(text("SELECT count(*) FROM items")).scalar() == ITEMS
            assert connection.execute(text("SELECT count(*) FROM deliveries WHERE state NOT IN ('written', 'there')")).scalar() == 0
    finally:
        last.close()
    wanted = Counter((r["vendor"], str(r["number"]), n + 1) for state, r in records if state == "done" for n in range(len(r["lines"])))
    assert max(wanted.values()) == 1
    assert Counter(table_rows(home)) == wanted
    assert Counter(sheet_rows(home)) == wanted
    assert not list((home / "files").rglob(".new-*.pdf"))


def table_rows(home: Path) -> list[tuple[str, str, int]]:
    with sqlite3.connect(home / "ledger.db") as connection:
        return [(vendor, number, int(line)) for vendor, number, line in connection.execute("SELECT vendor, number, line FROM invoice_lines")]


def sheet_rows(home: Path) -> list[tuple[str, str, int]]:
    rows = load_workbook(home / "ledger.xlsx")["Invoice lines"].iter_rows(min_row=2, values_only=True)
    return [(str(row[0]), str(row[1]), int(str(row[7]))) for row in rows]
