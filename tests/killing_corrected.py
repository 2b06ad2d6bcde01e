"""A service that is killed with -9 while written records are corrected, then while its runs are taken back; what stands in the end is what the records say."""

from __future__ import annotations

import json
import random
import sqlite3
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from subprocess import Popen
from typing import Any

from openpyxl import load_workbook

from metrikon.client import Client, Record
from metrikon.demo import scenario
from tests.helpers import eventually
from tests.killing import kill, serve

FLOW = """
metrikon: 1
name: ledger
intakes: [{kind: upload}]
destinations:
  head: {kind: sql, url: "sqlite:///out.db", table: invoices}
  lines: {kind: xlsx, path: lines.xlsx, sheet: Lines}
steps:
  - {name: document, read: {file: "${item.file}"}}
  - {name: invoice, extract: {document: "${document}", record_type: invoice}}
  - {name: checked, check: {record: "${invoice}"}}
  - name: row
    write:
      to: head
      key: ["${checked.record.vendor}", "${checked.record.number}"]
      columns: {Vendor: "${checked.record.vendor}", Number: "${checked.record.number}", Total: "${checked.record.total}"}
  - {name: paper, save: {file: "${item.file}", to: 'papers/${replace(checked.record.number, "/", "-")}.pdf', if_there: number}}
  - name: lines
    each:
      of: ${checked.record.lines}
      as: line
      steps:
        - name: line_row
          write:
            to: lines
            key: ["${checked.record.number}", "${line.description}"]
            columns: {Number: "${checked.record.number}", What: "${line.description}", Amount: "${line.amount}"}
"""
FILES = ("01-fernhill-nurseries.pdf", "02-moorgate-seed.pdf", "10-kestrel-seed.pdf")
WAY = ("entered", "sending", "returning")  # states of what is under way
LONGEST = 0.35  # seconds after a correction within which it is killed: most of what follows from it is done by then


@dataclass
class Ended:
    """What was wrong after kills, and how many there were."""

    kills: int = 0
    wrong: list[str] = field(default_factory=list)


@dataclass
class _Life:
    """A service that is killed and started again over one folder."""

    home: Path
    dice: random.Random
    ended: Ended
    process: Popen[bytes] | None = None
    client: Client | None = None

    def start(self) -> Client:
        self.process = serve(self.home)
        assert self.process.stdout is not None
        assert self.process.stdout.readline().startswith(b"Metrikon is ready")
        local = json.loads((self.home / "local.json").read_bytes())
        self.client = Client(local["url"], local["token"])
        return self.client

    def die(self) -> None:
        time.sleep(self.dice.uniform(0, LONGEST))
        assert self.process is not None
        assert self.client is not None
        self.client.close()
        kill(self.process)
        self.ended.kills += 1

    def at_rest(self, client: Client) -> None:
        """Wait until nothing is under way any more."""

        def holds() -> bool:
            if any(run.state in ("ready", "running", "waiting") for run in client.runs()):
                return False
            with sqlite3.connect(f"file:{self.home}/metrikon.db?mode=ro", uri=True) as database:
                return not database.execute(f"SELECT 1 FROM deliveries WHERE state IN {WAY}").fetchone()

        eventually(holds, 60)


def killed_corrected(home: Path, seed: int, kills: int) -> Ended:
    """Records corrected, one after the other, with a kill after each; then every run taken back, with kills."""
    life = _Life(home, random.Random(seed), Ended())
    client = life.start()
    client.put_record_type("invoice", scenario.invoice_type())
    client.put_flow("ledger", FLOW)
    for name in FILES:
        client.wait(client.upload("ledger", scenario.document(name), name=name).run_id)
    life.at_rest(client)
    for number in range(kills):
        record = life.dice.choice(_records(client))
        client.correct(record.id, _changed(record, number, life.dice), yes=True)
        client = _again(life)
        life.ended.wrong += [f"kill {number}: {each}" for each in _wrong(home, _records(client))]
    for number, run in enumerate([run for run in client.runs() if run.state == "done"]):
        client.take_back(run.id, yes=True)
        if number < kills:
            client = _again(life)
    life.at_rest(client)
    held = _held(home)
    life.ended.wrong += [f"taken back, and there still: {each}" for each in (*held[0], *held[1], *_papers(home))]
    life.die()
    return life.ended


def _again(life: _Life) -> Client:
    life.die()
    client = life.start()
    life.at_rest(client)
    return client


def _records(client: Client) -> list[Record]:
    return [client.record(each.id) for each in client.records(state="approved,clear")]


def _changed(record: Record, number: int, dice: random.Random) -> dict[str, Any]:
    """A record with another number, now and then with another row, one row less, or another total."""
    rows = [dict(each) for each in record.values["lines"]]
    changes: list[Callable[[], object]] = [
        lambda: None,
        lambda: rows[0].update(description=f"Plant {number}"),
        lambda: rows.pop() if len(rows) > 1 else None,
    ]
    dice.choice(changes)()
    return {**record.values, "number": f"N-{number}", "lines": rows}


def _held(home: Path) -> tuple[list[tuple[Any, ...]], list[tuple[Any, ...]]]:
    """The rows that stand in the table and in the sheet."""
    with sqlite3.connect(home / "out.db") as database:
        heads = sorted((number, float(total)) for number, total in database.execute("SELECT number, total FROM invoices"))
    rows = load_workbook(home / "lines.xlsx")["Lines"].iter_rows(min_row=2, max_col=3, values_only=True)
    return heads, sorted((str(number), str(what), float(str(amount))) for number, what, amount in rows if what is not None)


def _papers(home: Path) -> list[str]:
    return sorted(each.name for each in (home / "papers").iterdir())


def _wrong(home: Path, records: list[Record]) -> list[str]:
    """Where what stands there is not what the records say."""
    heads, lines = _held(home)
    wanted = sorted((str(each.values["number"]), float(each.values["total"])) for each in records)
    rows = sorted((str(each.values["number"]), str(line["description"]), float(line["amount"])) for each in records for line in each.values["lines"])
    found = [] if heads == wanted else [f"the table holds {heads}, the records say {wanted}"]
    papers = sorted(f"{str(each.values['number']).replace('/', '-')}.pdf" for each in records)
    found += [] if _papers(home) == papers else [f"the folder holds {_papers(home)}, the records say {papers}"]
    return found + ([] if lines == rows else [f"the sheet holds {lines}, the records say {rows}"])
