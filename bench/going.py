"""Writing out: rows a second to a database, a CSV file and a service, each against a plain script with the same library and keys; rows onto a large workbook."""

from __future__ import annotations

import csv
import logging
import subprocess
import sys
import time
from collections.abc import Callable
from decimal import Decimal
from functools import partial
from pathlib import Path

import httpx
from openpyxl import Workbook, load_workbook
from sqlalchemy import Column, Engine, MetaData, String, Table, Text, create_engine
from sqlalchemy.dialects.sqlite import insert

from bench.report import Result, result
from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.connections.sql import file_engine
from metrikon.core.flows.connecting import Way
from metrikon.core.values.exact import dumps
from metrikon.destinations.csv import CsvFormat
from metrikon.destinations.files import LocalFile
from metrikon.destinations.service import ServiceDestination, once
from metrikon.destinations.sheets import SheetDestination
from metrikon.destinations.sql import SqlDestination
from metrikon.ports.destination import Destination, Row
from metrikon.sandbox.records import DESCRIPTION, TOKEN
from metrikon.sandbox.services import Services

BATCH, TRIES = 500, 3


def _rows(count: int) -> list[Row]:
    return [
        Row(
            f"k1-{number:064x}",
            {"vendor": f"Vendor {number % 97}", "line": number, "amount": Decimal(number) / 100, "date": "2026-03-04", "note": "in good order"},
        )
        for number in range(count)
    ]


def _seconds(work: Callable[[], object]) -> float:
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def _batches(made: Destination, rows: list[Row]) -> None:
    for at in range(0, len(rows), BATCH):
        made.write(rows[at : at + BATCH])


def _plain_sql(path: Path, rows: list[Row]) -> None:
    engine = create_engine(f"sqlite:///{path}")
    names = ("vendor", "line", "amount", "date", "note")
    table = Table("rows", MetaData(), Column("delivery_key", String(500), primary_key=True), *(Column(each, Text) for each in names))
    with engine.begin() as connection:
        table.create(connection)
    for at in range(0, len(rows), BATCH):
        told = [{"delivery_key": row.key, **{name: str(value) for name, value in row.values.items()}} for row in rows[at : at + BATCH]]
        with engine.begin() as connection:
            connection.execute(insert(table).on_conflict_do_nothing(), told)


def _plain_csv(path: Path, rows: list[Row]) -> None:
    heads = [*rows[0].values, "delivery_key"]
    for at in range(0, len(rows), BATCH):
        held: list[dict[str, str]] = []
        if path.exists():
            with path.open(newline="") as source:
                held = list(csv.DictReader(source))
        known = {each["delivery_key"] for each in held}
        fresh = [{**row.values, "delivery_key": row.key} for row in rows[at : at + BATCH] if row.key not in known]
        with path.open("w", newline="") as out:
            writer = csv.DictWriter(out, heads)
            writer.writeheader()
            writer.writerows([*held, *fresh])


def _sql(engine: Engine) -> SqlDestination:
    return SqlDestination(lambda: engine, "rows")


def rows_out(folder: Path, part: int) -> list[Result]:
    """Rows a second against a plain script, batch for batch."""
    rows = _rows(20_000 // part)
    ours, plain = [], []
    for number in range(TRIES):
        engine = file_engine(folder / f"ours{number}.db")
        ours.append(_seconds(partial(_batches, _sql(engine), rows)))
        plain.append(_seconds(partial(_plain_sql, folder / f"plain{number}.db", rows)))
    found = [result("rows written to SQLite a second / by a plain script", min(plain) / min(ours), "at least 0.6", lambda ratio: ratio >= 0.6, "")]
    some = rows[: 6000 // part]
    ours = [_seconds(partial(_batches, SheetDestination(LocalFile(folder / f"o{number}.csv"), CsvFormat()), some)) for number in range(TRIES)]
    plain = [_seconds(partial(_plain_csv, folder / f"p{number}.csv", some)) for number in range(TRIES)]
    found.append(result("rows written to CSV a second / by a plain script", min(plain) / min(ours), "at least 0.6", lambda ratio: ratio >= 0.6, ""))
    return [*found, *_service(folder, part)]


def _service(folder: Path, part: int) -> list[Result]:
    logging.getLogger("werkzeug").setLevel(logging.ERROR)
    services = Services().start()
    app = App(Settings(home=folder / "home", fetch_private=True, fetches_a_minute=0, fetches_at_once=50))
    try:
        app.connections.put("crm", f"{services.url}/records", Way("bearer"), TOKEN, "bench")
        app.describing.put("crm", dumps(DESCRIPTION))
        app.describing.note("crm", {"records": {"tasks": {"create": "makeTask", "once_header": "Idempotency-Key"}}})
        rows = [Row(f"k{number}", {"title": f"Water bed {number}", "priority": "high"}) for number in range(300 // part)]
        made = ServiceDestination(app.outside, "crm", "tasks")

        def plain(number: int) -> None:
            with httpx.Client(headers={"Authorization": f"Bearer {TOKEN}"}) as client:
                for row in rows:
                    key = once("plain", f"tasks {number}", [row.key])
                    client.post(f"{services.url}/records/tasks", json=dict(row.values), headers={"Idempotency-Key": key}).raise_for_status()

        ours_, plain_ = zip(
            *((_seconds(partial(made.write, _named(rows, each))), _seconds(partial(plain, each))) for each in range(TRIES)), strict=True
        )
        return [
            result("records made at a service a second / by a plain script", min(plain_) / min(ours_), "at least 0.6", lambda ratio: ratio >= 0.6, "")
        ]
    finally:
        app.close()
        services.stop()


def _named(rows: list[Row], number: int) -> list[Row]:
    return [Row(f"{number} {row.key}", row.values) for row in rows]


_ONTO = """
import sys, time
from pathlib import Path
from metrikon.destinations.files import LocalFile
from metrikon.destinations.sheets import SheetDestination
from metrikon.destinations.xlsx import XlsxFormat
from metrikon.ports.destination import Row
start = time.perf_counter()
made = SheetDestination(LocalFile(Path(sys.argv[1])), XlsxFormat("Rows"), "Rows")
made.write([Row(f"k1-x{number}", {"Col 0": "Fern", "Col 1": number}) for number in range(100)])
peak = next(line for line in Path("/proc/self/status").read_text().splitlines() if line.startswith("VmHWM"))
print(time.perf_counter() - start, int(peak.split()[1]) / 1024)
"""


def workbooks(folder: Path, part: int) -> list[Result]:
    """A hundred rows onto 50,000, against a rewrite by a library; and the memory of it."""
    path = folder / "big.xlsx"
    book = Workbook(write_only=True)
    sheet = book.create_sheet("Rows")
    sheet.append([*(f"Col {number}" for number in range(11)), "delivery_key"])
    for number in range(50_000 // part):
        sheet.append([f"Vendor {number % 97}", number, number * 1.25, *(f"v{number}-{column}" for column in range(8)), f"k1-{number:064x}"])
    book.save(path)
    told = subprocess.run([sys.executable, "-c", _ONTO, str(path)], check=True, capture_output=True, text=True).stdout.split()

    def library() -> None:
        whole = load_workbook(path)
        for number in range(100):
            whole["Rows"].append(["Fern", number])
        whole.save(folder / "other.xlsx")

    return [
        result(
            "100 rows onto a workbook of 50,000 / a rewrite by a library",
            float(told[0]) / _seconds(library),
            "at most 0.1",
            lambda ratio: ratio <= 0.1,
            "",
        ),
        result("megabytes of it, the process and its libraries included", float(told[1]), "at most 100", lambda megabytes: megabytes <= 100, ""),
    ]
