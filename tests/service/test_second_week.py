"""The second week of each flow of the demo, through its network interface: run again, corrected, run again, taken back; what stands where is counted each time."""

from __future__ import annotations

import json
import os
import re
import sqlite3
import subprocess
import sys
from collections import Counter
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import httpx
import pytest
from openpyxl import load_workbook

from metrikon.client import Client, Run
from tests.helpers import eventually

UNDER_WAY = ("ready", "running", "waiting")
ON_THE_WAY = ("entered", "sending", "returning")
BOOKS = {
    "garden-post": "applications.xlsx",
    "order-requests": "orders.xlsx",
    "price-lists": "prices.xlsx",
    "supplier-invoices": "ledger.xlsx",
    "visitor-line": "calls.xlsx",
}
CORRECTED = {"supplier-invoices": {"number": "SW-1"}, "order-requests": {"purpose": "building"}}  # fields, with what a person puts there
SERVICES = re.compile(rb"Services  (http://127\.0\.0\.1:\d+)")


class Week:
    """The demo as it is started by hand, and what stands in its books and at its stand-ins."""

    def __init__(self, home: Path, log: Path) -> None:
        self.home, self._log = home, log
        command = [sys.executable, "-m", "metrikon.cli", "demo", "--home", str(home), "--port", "8960"]
        with log.open("wb") as out:
            self.process = subprocess.Popen(command, stdout=out, stderr=subprocess.DEVNULL, env={**os.environ, "METRIKON_HOME": ""})
        assert eventually(lambda: SERVICES.search(log.read_bytes()) is not None, 90), log.read_bytes()
        local = json.loads((home / "local.json").read_bytes())
        self.client = Client(local["url"], local["token"])
        found = SERVICES.search(log.read_bytes())
        assert found is not None
        self.services = found[1].decode()
        assert eventually(lambda: {run.flow for run in self.client.runs() if run.state == "done"} >= {*BOOKS, "tour-bookings", "old-ledger"}, 180)
        self.at_rest()

    def at_rest(self) -> None:
        """Wait until nothing is under way."""

        def holds() -> bool:
            if any(run.state in UNDER_WAY for run in self.client.runs()):
                return False
            with closing(sqlite3.connect(f"file:{self.home}/metrikon.db?mode=ro", uri=True)) as database:
                return not database.execute(f"SELECT 1 FROM deliveries WHERE state IN {ON_THE_WAY}").fetchone()

        assert eventually(holds, 180)

    def settled(self, run_id: str) -> Run:
        self.at_rest()
        return self.client.run(run_id)

    def held(self) -> Counter[str]:
        """How many rows, contacts, tasks, messages and invoices stand where."""
        found: Counter[str] = Counter()
        for name in BOOKS.values():
            book = load_workbook(self.home / name, read_only=True)
            rows = (row for sheet in book.worksheets for row in sheet.iter_rows(min_row=2, values_only=True))
            found[name] = sum(any(cell not in (None, "") for cell in row) for row in rows)
            book.close()
        with closing(sqlite3.connect(self.home / "ledger.db")) as ledger:
            found["ledger.db"] = ledger.execute("SELECT count(*) FROM invoice_lines").fetchone()[0]
        for place, sign in (("records", "contact "), ("records", "task "), ("accounts/invoices", "<td>FN-")):
            page = httpx.get(f"{self.services}/{place}", follow_redirects=True).text
            found[f"{place} {sign}"] = page.count(sign)
        return found

    def runs_of(self, item_id: str) -> list[Run]:
        """The runs of an item, the latest first."""
        return list(self.client.runs(item=item_id))

    def end(self) -> None:
        self.client.close()
        self.process.terminate()
        self.process.wait(30)


@pytest.fixture(scope="module")
def week(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Week]:
    folder = tmp_path_factory.mktemp("week")
    made = Week(folder / "home", folder / "log.txt")
    yield made
    made.end()


def done_run(week: Week, flow: str) -> Run:
    """The first run of a flow that is done and has sent something out."""
    found = (week.client.run(run.id) for run in week.client.runs(flow=flow, state="done"))
    return next(run for run in found if any(each["state"] == "written" for each in run.deliveries))


def written(run: Run) -> list[dict[str, Any]]:
    return [each for each in run.deliveries if each["state"] == "written"]


@pytest.mark.parametrize("flow", [*BOOKS, "tour-bookings", "old-ledger"])
def test_a_flow_is_run_again_corrected_and_taken_back_and_nothing_is_doubled_or_left(flow: str, week: Week) -> None:
    run, before = done_run(week, flow), week.held()
    again = week.settled(week.client.run_again_from(run.id, ""))
    assert (again.state, week.held() - before, before - week.held()) == ("done", Counter(), Counter()), "the same once more changes nothing"
    record = again.record_id if flow in CORRECTED else None
    if record is not None:
        values = {**week.client.record(record).values, **CORRECTED[flow]}
        corrected = week.settled(week.client.correct(record, values, "second week", yes=True)["run_id"])
        assert (corrected.state, week.held()) == ("done", before), "rows follow, and none is added"
        assert week.client.record(record).values.items() >= CORRECTED[flow].items()
        twice = week.settled(week.client.run_again_from(corrected.id, ""))
        assert (twice.state, week.held()) == ("done", before), "what a person has corrected stays so, whatever is read anew"
        same = [week.client.record(each.id) for each in week.client.records() if each.item_id == run.item_id]
        assert [each.values.items() >= CORRECTED[flow].items() for each in same] == [True], "an item has one record of a step"
    told = [each for one in week.runs_of(run.item_id) if one.settled for each in week.client.take_back(one.id)["items"]]
    for _ in range(3):  # what was corrected has its former key again when its correction is taken back
        for one in week.runs_of(run.item_id):
            if one.settled:
                week.client.take_back(one.id, yes=True)
        week.at_rest()
    left = [each for one in week.runs_of(run.item_id) for each in written(week.client.run(one.id))]
    may_stay = {each["delivery"]["key"] for each in told if each["stays"]}
    assert {each["key"] for each in left} <= may_stay, [(each["key"], each["error"]) for each in left]
    gone = before - week.held()
    assert not week.held() - before
    if flow in BOOKS:
        assert gone[BOOKS[flow]] > 0, "its rows are gone"
    else:
        assert not gone, "nothing there can be removed from here, and that was told"
        assert may_stay
