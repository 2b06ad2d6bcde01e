"""What counts as the same row: exactly what the flow's key says, wherever the house stands and whichever version wrote it."""

from __future__ import annotations

import shutil
import sqlite3
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from openpyxl import load_workbook

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.connections.sql import file_engine
from metrikon.core.flows.keys import by_former_rule
from metrikon.demo import scenario
from metrikon.destinations.files import LocalFile
from metrikon.destinations.sheets import SheetDestination
from metrikon.destinations.sql import SqlDestination
from metrikon.destinations.xlsx import XlsxFormat
from metrikon.ports.destination import Destination, Row
from metrikon.store import journal
from tests.engine.test_several import EACH, NAMES, merged
from tests.helpers import at_rest, delivered, eventually, run_state, states

LONG = "Ferns of the northern house, " * 20
ROWS = """
metrikon: 1
name: supplier-invoices
intakes:
  - kind: upload
destinations:
  table: {kind: sql, url: "sqlite:///rows.db", table: rows}
  book: {kind: xlsx, path: rows.xlsx, sheet: Rows}
steps:
  - name: all
    each:
      of: ${PARTS}
      as: part
      steps:
        - name: row
          write: {to: table, key: ["${part}"], columns: {Part: "${part}"}IGNORE}
        - name: line
          write: {to: book, key: ["${part}"], columns: {Part: "${part}"}IGNORE}
"""


def flow_of(parts: list[str], ignore: bool = False) -> str:
    listed = "[" + ", ".join(f'"{part}"' for part in parts) + "]"
    return ROWS.replace("PARTS", listed).replace("IGNORE", ", ignore_case: true" if ignore else "")


def table(app: App) -> list[str]:
    with sqlite3.connect(app.home / "rows.db") as connection:
        return [part for (part,) in connection.execute("SELECT Part FROM rows ORDER BY rowid")]


def sheet(app: App) -> list[str]:
    return [str(row[0]) for row in load_workbook(app.home / "rows.xlsx")["Rows"].iter_rows(min_row=2, values_only=True)]


@pytest.mark.parametrize(
    ("parts", "ignore", "written"),
    [
        ([LONG + "1", LONG + "2", LONG + "3"], False, 3),
        (["P-7", "p-7"], False, 2),
        (["P-7", "p-7 "], True, 1),
        (["a|b", "ab"], False, 2),
        (["P-7", "P-8", "P-7"], False, 2),
    ],
)
def test_each_key_is_one_row_and_no_key_is_taken_for_another(parts: list[str], ignore: bool, written: int, house: Callable[..., App]) -> None:
    app = house(flow=flow_of(parts, ignore))
    app.start()
    run = app.arrivals.take("supplier-invoices", "upload", None, "a.txt", b"Ferns").run_id
    at_rest(app, 1)
    assert run_state(app, run)[0] == "done"
    assert sorted(table(app)) == sorted(sheet(app)) == sorted(dict.fromkeys(parts))[:written]
    assert len(table(app)) == written


def test_a_repeated_key_is_not_told_as_done_before_its_row_is_written(house: Callable[..., App], monkeypatch: pytest.MonkeyPatch) -> None:
    app = house(flow=flow_of(["P-7", "P-7"]))
    hand_out = app.deliveries._hand_out
    monkeypatch.setattr(app.deliveries, "_hand_out", lambda: 0.1)
    app.start()
    run = app.arrivals.take("supplier-invoices", "upload", None, "a.txt", b"Ferns").run_id
    eventually(lambda: run_state(app, run)[0] == "waiting")
    with app.database.reading() as connection:
        told = [entry.event for _, entry in journal.load(connection, run) if entry.path]
    assert told == ["begun", "begun"]
    monkeypatch.setattr(app.deliveries, "_hand_out", hand_out)
    eventually(lambda: run_state(app, run)[0] == "done")
    assert table(app) == ["P-7"]


def test_who_waits_for_the_row_of_a_cancelled_run_writes_it(house: Callable[..., App], monkeypatch: pytest.MonkeyPatch) -> None:
    app = house(flow=flow_of(["P-7"]))
    hand_out = app.deliveries._hand_out
    monkeypatch.setattr(app.deliveries, "_hand_out", lambda: 0.1)
    app.start()
    one, two = (app.arrivals.take("supplier-invoices", "upload", None, f"{n}.txt", b"Ferns %d" % n).run_id for n in (1, 2))
    eventually(lambda: states(app) == {"waiting": 2})
    app.answers.cancel(one, "ada")
    monkeypatch.setattr(app.deliveries, "_hand_out", hand_out)
    eventually(lambda: run_state(app, two)[0] == "done")
    assert table(app) == sheet(app) == ["P-7"]


def test_keys_name_no_path_and_a_house_that_was_moved_writes_no_row_again(tmp_path: Path) -> None:
    def opened(name: str) -> App:
        app = App(Settings(home=tmp_path / name))
        app.catalog.put_record_type("invoice", scenario.invoice_type())
        app.catalog.put_flow(EACH)
        app.start()
        return app

    app = opened("here")
    item = app.arrivals.take("supplier-invoices", "upload", None, "two.pdf", merged(*NAMES)).item_id
    at_rest(app, 1)
    app.close()
    assert not any(str(tmp_path) in key for key in delivered(app))
    shutil.move(tmp_path / "here", tmp_path / "there")
    for forgotten in (False, True):
        app = opened("there")
        if forgotten:  # the destination itself knows its rows
            with sqlite3.connect(app.home / "metrikon.db") as connection:
                connection.execute("DELETE FROM deliveries")
        app.again.item(item, "")
        eventually(lambda: set(states(app)) == {"done"})  # noqa: B023
        app.close()
        with sqlite3.connect(tmp_path / "there" / "parts.db") as connection:
            keys = [key for (key,) in connection.execute("SELECT delivery_key FROM invoices")]
        assert len(keys) == 2
        assert not any(str(tmp_path) in key for key in keys)


@pytest.mark.parametrize("kind", ["sql", "xlsx"])
def test_rows_of_an_earlier_version_are_not_written_again_and_others_are(kind: str, tmp_path: Path) -> None:
    made: Destination = _sql(tmp_path) if kind == "sql" else SheetDestination(LocalFile(tmp_path / "rows.xlsx"), XlsxFormat("rows"), "rows")

    def row(*parts: Any, key: str = "") -> Row:
        return Row(key or f"k1-{parts}", {"Part": parts[0], "Line": parts[1]}, parts)

    olden = [("P-7", 1), ("P-7", 2), (LONG + "1", 1)]
    made.write([row(*parts, key=f"{kind}:/elsewhere/ledger#rows|{by_former_rule(parts)}"[:500]) for parts in olden])
    again = _sql(tmp_path) if kind == "sql" else made
    receipts = again.write([row(*parts) for parts in [*olden, ("p-7", 1), ("P-7", 3), (LONG + "2", 1)]])
    assert [each.result for each in receipts] == ["there already"] * 3 + ["written"] * 3


def _sql(folder: Path) -> SqlDestination:
    engine = file_engine(folder / "rows.db")
    return SqlDestination(lambda: engine, "rows")
