"""Whether much costs more than little: runs in the database, documents gone through."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from pathlib import Path

import psutil
from sqlalchemy import insert

from bench.fixture import QuickModel, Service, invoices
from bench.report import Result, result
from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.core.values.exact import dumps
from metrikon.demo import scenario
from metrikon.store.tables import items, journal, records, runs

FEW, MANY = 100, 10_000


def many_runs(folder: Path, less: int) -> list[Result]:
    """List, open and write with 10,000 runs in the database against 100."""
    few = _times(folder / "few", FEW)
    many = _times(folder / "many", MANY // less)
    return [
        result(
            f"{name} with {MANY // less:,} runs / with {FEW}",
            many[name] / few[name],
            "at most 1.5",
            lambda r: r <= 1.5,
            f"{many[name] * 1000:.1f} ms against {few[name] * 1000:.1f} ms",
        )
        for name in few
    ]


def _times(home: Path, count: int) -> dict[str, float]:
    _filled(home, count)
    source = home / "source"
    invoices(source, 12)
    service = Service(home)
    try:
        client = service.client
        run = next(iter(client.runs()))
        return {
            "list": _median(lambda: client._ask("GET", "/api/items", params={"limit": 50})),
            "open": _median(lambda: client.run(run.id)),
            "write": _median_write(service, sorted(source.iterdir())),
        }
    finally:
        service.stop()


def _median(call: Callable[[], object], times: int = 60) -> float:
    taken = []
    for _ in range(times):
        start = time.perf_counter()
        call()
        taken.append(time.perf_counter() - start)
    return statistics.median(taken[10:])


def _median_write(service: Service, files: list[Path]) -> float:
    """From upload until its rows are written."""
    taken = []
    for path in files:
        start = time.perf_counter()
        sent = service.client.upload(scenario.FLOW, path)
        while not service.client.run(sent.run_id).settled:
            time.sleep(0.002)
        taken.append(time.perf_counter() - start)
    return statistics.median(taken[2:])


def _filled(home: Path, count: int) -> None:
    """A database with so many settled runs, as the service leaves them."""
    app = App(Settings(home=home))
    try:
        made: dict[str, list[dict[str, object]]] = {"items": [], "runs": [], "journal": [], "records": []}
        for number in range(count):
            item, run, record = (app.clock.new_id() for _ in range(3))
            at = app.clock.now()
            title = f"Nursery {number % 97} · N-{number}"
            values = dumps({"vendor": f"Nursery {number % 97}", "number": f"N-{number}", "total": number})
            shared = {"flow": scenario.FLOW}
            made["items"].append(
                {
                    **shared,
                    "id": item,
                    "intake": "folder",
                    "identity": item,
                    "sha256": "0" * 64,
                    "name": f"{number}.pdf",
                    "size": 9,
                    "received_at": at,
                }
            )
            made["runs"].append(
                {
                    **shared,
                    "id": run,
                    "item_id": item,
                    "flow_version": 1,
                    "state": "done",
                    "reason": "",
                    "epoch": 2,
                    "entries": 6,
                    "created_at": at,
                    "changed_at": at,
                    "settled_at": at,
                    "calls": 1,
                    "input_tokens": 900,
                    "output_tokens": 200,
                    "cost": "0.001",
                }
            )
            made["journal"] += [
                {
                    "run_id": run,
                    "number": n,
                    "event": "done",
                    "path": f"step{n}",
                    "kind": "write",
                    "kind_version": 1,
                    "at": at,
                    "took": 4,
                    "data": b'{"result":{}}',
                }
                for n in range(1, 7)
            ]
            made["records"].append(
                {
                    "id": record,
                    "run_id": run,
                    "item_id": item,
                    "path": "invoice",
                    "record_type": "invoice",
                    "type_version": 1,
                    "state": "clear",
                    "document": "0" * 64,
                    "model": "pattern",
                    "title": title,
                    "words": title.lower(),
                    "values": values,
                    "evidence": b"{}",
                    "findings": b"[]",
                    "changes": b"[]",
                    "as_read": values,
                    "created_at": at,
                }
            )
        for table, rows in ((items, made["items"]), (runs, made["runs"]), (journal, made["journal"]), (records, made["records"])):
            app.database.write(lambda connection, table=table, rows=rows: connection.execute(insert(table), rows))  # type: ignore[misc]
    finally:
        app.close()


def memory(folder: Path, less: int) -> list[Result]:
    """Memory of the service after 2,000 documents against after 200."""
    first, second = 200 // less, 2000 // less
    answers = invoices(folder / "source", second)
    rest = folder / "rest"
    rest.mkdir()
    for path in sorted((folder / "source").iterdir())[first:]:
        path.rename(rest / path.name)
    model = QuickModel(answers)
    service = Service(folder / "home", model.url)
    try:
        service.drop(folder / "source")
        service.wait(first)
        time.sleep(3)
        before = _resident(service.process.pid)
        service.drop(rest)
        service.wait(second)
        time.sleep(3)
        after = _resident(service.process.pid)
    finally:
        service.stop()
        model.stop()
    behind = f"{after:.0f} MB after {second}, {before:.0f} MB after {first} (the service's own process)"
    return [result(f"memory after {second:,} documents / after {first}", after / before, "at most 1.1", lambda r: r <= 1.1, behind)]


def _resident(pid: int) -> float:
    return float(psutil.Process(pid).memory_info().rss) / 1e6
