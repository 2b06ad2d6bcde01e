"""A row that starts a run and is set by it: where it stands by then, once, and without starting another run."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import openpyxl
import pytest
import python_calamine

from metrikon.app.assemble import App
from metrikon.core.values.delimited import rows_of
from metrikon.destinations.files import LocalFile
from metrikon.destinations.ods import OdsFormat
from metrikon.destinations.sheets import SheetDestination
from metrikon.ports.destination import Row
from metrikon.store import questions
from tests.helpers import at_rest, eventually, states

FLOW = """metrikon: 1
name: tours
intakes: [{{kind: rows, path: tours.{ending}, every: 1{more}}}]
destinations:
  sheet: {{kind: {ending}, path: tours.{ending}, sheet: Tours, key: [Number]}}
steps:
- name: waits
  ask: {{question: Answer it?, options: [{{name: "yes", label: Answered}}]}}
- name: told
  write:
    to: sheet
    key: ["${{item.data.Number}}"]
    if_there: update
    if_not_there: leave
    columns: {{Number: "${{item.data.Number}}", Answered: "${{item.received}}"}}
"""
HEADS = ["Number", "Name"]


def put(path: Path, rows: list[list[Any]]) -> None:
    """Write the sheet as a person would save it."""
    if path.suffix == ".csv":
        path.write_text("".join(";".join(map(str, each)) + "\n" for each in rows))
    elif path.suffix == ".xlsx":
        book = openpyxl.Workbook()
        sheet = book.active
        assert sheet is not None
        sheet.title = "Tours"
        for row in rows:
            sheet.append(row)
        book.save(path)
    else:
        path.unlink(missing_ok=True)
        heads, *others = rows
        SheetDestination(LocalFile(path), OdsFormat("Tours"), "Tours", ["Number"]).write(
            [Row(str(each[0]), dict(zip(heads, each, strict=True))) for each in others]
        )


def held(path: Path) -> list[list[Any]]:
    """The cells of the sheet, but for our key."""
    found: list[list[Any]]
    if path.suffix == ".csv":
        found = [list(each) for each in rows_of(path.read_bytes())]
    elif path.suffix == ".xlsx":
        found = [list(each) for each in openpyxl.load_workbook(path)["Tours"].iter_rows(values_only=True)]
    else:
        found = python_calamine.CalamineWorkbook.from_path(str(path)).get_sheet_by_name("Tours").to_python()
    return [[None if cell == "" else cell for cell in row] for row in found]


def started(house: Callable[..., App], ending: str, more: str = "") -> tuple[App, Path]:
    """A service to which three rows came, each of which waits for a person."""
    app = house()
    path = app.home / f"tours.{ending}"
    put(path, [HEADS, ["T1", "Ada"], ["T2", "Bo"], ["T3", "Cy"]])
    text = FLOW.format(ending=ending, more=more)
    app.catalog.put_flow(text if ending != "csv" else text.replace(", sheet: Tours", ""))
    app.start()
    eventually(lambda: len(asked(app)) == 3)
    return app, path


def asked(app: App) -> list[str]:
    """The questions that are open, in the order of the rows."""
    with app.database.reading() as connection:
        return [str(each["id"]) for each in sorted(questions.listed(connection), key=lambda each: str(each["item_name"]))]


def answered(app: App, count: int = 3) -> None:
    for each in asked(app):
        app.questions.answer(each, "yes", "ada")
    at_rest(app, count)


@pytest.mark.parametrize("ending", ["csv", "xlsx", "ods"])
def test_a_row_is_set_where_it_was_sorted_to_and_not_made_where_it_was_deleted(ending: str, house: Callable[..., App]) -> None:
    app, path = started(house, ending, ", key: [Number]")
    put(path, [HEADS, ["T3", "Cy"], ["T1", "Ada"]])  # sorted by somebody meanwhile, and T2 deleted
    answered(app)
    heads, *rows = held(path)
    assert (heads[:3], [row[:2] for row in rows]) == ([*HEADS, "Answered"], [["T3", "Cy"], ["T1", "Ada"]])
    assert all(row[2] for row in rows)
    assert states(app) == {"done": 3}
    with app.database.reading() as connection:
        told = [each[0] for each in connection.exec_driver_sql("SELECT data FROM journal WHERE event = 'done' AND path = 'told'")]
    assert sum(b"not there" in bytes(each) for each in told) == 1, "the run of the row that is gone says so"


@pytest.mark.parametrize("more", ["", ", which: changed, key: [Number]", ", key: [Number]"])
@pytest.mark.parametrize("ending", ["csv", "xlsx"])
def test_what_the_flow_itself_sets_in_its_rows_starts_no_other_run(ending: str, more: str, house: Callable[..., App]) -> None:
    app, path = started(house, ending, more)
    answered(app)
    time.sleep(2.5)  # it has been looked at since
    assert states(app) == {"done": 3}
    rows = [row[:2] for row in held(path)]
    rows.append(["T4", "Di"])
    put(path, rows)
    eventually(lambda: len(asked(app)) == 1)
    answered(app, 4)


def test_what_a_person_changes_beside_it_starts_one_where_that_is_wanted(house: Callable[..., App]) -> None:
    app, path = started(house, "csv", ", which: changed, key: [Number]")
    answered(app)
    put(path, [[*row[:1], "Bo Lind", *row[2:]] if row[0] == "T2" else row for row in held(path)])
    eventually(lambda: len(asked(app)) == 1)
    answered(app, 4)
