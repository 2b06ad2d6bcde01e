"""Fields to columns: what does not fit the real columns is told when a flow is kept, what fits is suggested, and the text stays its author's."""

from __future__ import annotations

import csv
import sqlite3
from collections.abc import Callable
from pathlib import Path

import pytest

from metrikon.app.assemble import App
from metrikon.core.flows.mapping import Columns, Field, Head, remapped, suggested
from metrikon.core.flows.problems import BadFlow
from metrikon.core.flows.text import from_yaml
from tests.helpers import Running

FLOW = """metrikon: 1
name: ledger
intakes: [{kind: upload}]
destinations:
  book: {kind: sql, url: "sqlite:///book.db", table: lines, key: [Number]}
  sheet: {kind: csv, path: sheet.csv}
steps:
- {name: page, read: {file: "${item.file}"}}
- {name: bill, extract: {document: "${page}", record_type: invoice}}  # as it stands
- name: row
  write:
    to: book
    key: ["${bill.record.number}"]
    # the columns of the book
    columns:
      Number: ${bill.record.number}
      paid_on: ${bill.record.date}
      total: ${bill.record.total}
"""


@pytest.fixture
def app(house: Callable[..., App]) -> App:
    app = house()
    with sqlite3.connect(app.home / "book.db") as book:
        book.execute(
            "CREATE TABLE lines (Number TEXT NOT NULL UNIQUE, paid_on DATE, total NUMERIC, checked BOOLEAN, vendor TEXT NOT NULL DEFAULT '')"
        )
    return app


def _wrong(app: App, text: str) -> list[tuple[str, str, int]]:
    return [(each.place, each.message, each.line) for each in app.catalog.problems_in(text)[1]]


def test_a_mapping_that_fits_is_kept(app: App) -> None:
    assert _wrong(app, FLOW) == []
    app.catalog.put_flow(FLOW)


@pytest.mark.parametrize(
    ("text", "place", "told"),
    [
        (FLOW.replace("total: ${bill.record.total}", "totl: ${bill.record.total}"), "write/columns/totl", "no column 'totl'. Is 'total' meant?"),
        (
            FLOW.replace("total: ${bill.record.total}", "total: ${bill.record.vendor}"),
            "write/columns/total",
            "holds numbers, and this gives text. number(…) makes",
        ),
        (
            FLOW.replace("paid_on: ${bill.record.date}", "paid_on: ${bill.record.total}"),
            "write/columns/paid_on",
            "holds dates, and this gives numbers. Map another",
        ),
        (FLOW.replace("paid_on: ${bill.record.date}", "checked: ${1 + 1}"), "write/columns/checked", "holds yes or no, and this gives numbers"),
        (FLOW.replace("      Number: ${bill.record.number}\n", ""), "write/columns", "The column Number of book must have a value"),
    ],
)
def test_what_does_not_fit_the_real_columns_is_told_with_its_line_when_the_flow_is_kept(app: App, text: str, place: str, told: str) -> None:
    [(where, message, line)] = _wrong(app, text)
    assert where == place
    assert told in message
    assert text.splitlines()[line - 1].strip().startswith((place.rpartition("/")[2], "columns"))
    with pytest.raises(BadFlow):
        app.catalog.put_flow(text)


def test_a_sheet_takes_new_columns_and_a_place_that_does_not_answer_hinders_nobody(app: App) -> None:
    with (app.home / "sheet.csv").open("w") as out:
        csv.writer(out).writerow(["Number", "delivery_key"])
    assert _wrong(app, FLOW.replace("to: book", "to: sheet")) == []
    (app.home / "book.db").write_bytes(b"no database at all, and long enough to be taken for one" * 40)
    app.clock.now()
    other = app.columns.of(app.catalog.problems_in(FLOW)[0], "book")  # type: ignore[arg-type]
    assert other.columns is None or _wrong(app, FLOW) == []


def test_only_setting_what_is_there_needs_no_wanted_column(app: App) -> None:
    only = FLOW.replace("    key: [", "    if_there: update\n    if_not_there: leave\n    key: [").replace(
        "      Number: ${bill.record.number}\n", ""
    )
    assert _wrong(app, only) == []


def test_what_seems_to_fit_is_suggested_by_name_and_type_each_field_once() -> None:
    heads = [Head("Vendor name", "text"), Head("VAT total", "number"), Head("Date", "date"), Head("Total", "number"), Head("Remarks", "text")]
    known = [
        Field("bill.record.vendor.name", "text"),
        Field("bill.record.date", "text"),
        Field("bill.record.day.date", "date"),
        Field("bill.record.total", "number"),
    ]
    assert suggested(heads, known) == {"Vendor name": "bill.record.vendor.name", "Date": "bill.record.day.date", "Total": "bill.record.total"}
    assert Columns(heads).of("vendor_name") == heads[0]


@pytest.mark.parametrize("flow_style", [False, True])
def test_other_columns_are_put_into_the_text_and_all_else_stays(flow_style: bool) -> None:
    text = FLOW
    if flow_style:
        begins = text.index("\n      Number")
        text = text[:begins] + ' {Number: "${bill.record.number}"}\n'
    columns = {"Total": "${bill.record.total}", "A: b #c": 'say "hello"', "Plain": 12, "yes": "no"}
    made = remapped(text, ("steps", 2, "write", "columns"), columns)
    assert from_yaml(made)["steps"][2]["write"]["columns"] == columns
    for line in ("# as it stands", "# the columns of the book", "key: [Number]}"):
        assert line in made
    assert from_yaml(made)["steps"][:2] == from_yaml(text)["steps"][:2]
    for nothing in ("", "\x00", "a: [", "- 1"):
        with pytest.raises(ValueError, match=r"The text|no steps"):
            remapped(nothing, ("steps", 2, "write", "columns"), columns)
    with pytest.raises(ValueError, match="no steps/7"):
        remapped(text, ("steps", 7, "write", "columns"), columns)


def test_the_mapping_is_told_with_suggestions_and_changed_over_the_service(running: Callable[..., Running]) -> None:
    service = running()
    with sqlite3.connect(service.app.home / "book.db") as book:
        book.execute("CREATE TABLE lines (Number TEXT NOT NULL UNIQUE, total NUMERIC, vendor TEXT)")
    text = FLOW.replace("      paid_on: ${bill.record.date}\n", "").replace("      total: ${bill.record.total}\n", "")
    [told] = service.client.mapping(text)
    assert (told["step"], told["destination"], told["grows"], told["why"]) == ("row", "book", False, "")
    assert [(each["name"], each["value"], each["suggested"]) for each in told["columns"]] == [
        ("Number", "${bill.record.number}", "bill.record.number"),
        ("total", None, "bill.record.total"),
        ("vendor", None, "bill.record.vendor"),
    ]
    made = service.client.remap(text, told["place"], {each["name"]: f"${{{each['suggested']}}}" for each in told["columns"]})
    assert service.client.put_flow("ledger", made) == 1
    assert "# the columns of the book" in made


def test_a_try_sends_nothing_and_saves_nothing(app: App, tmp_path: Path) -> None:
    flow, _ = app.catalog.problems_in(
        'metrikon: 1\nname: out\nintakes: [{kind: upload}]\nsteps:\n- {name: drawn, chart: {rows: "${[{a: 1, b: 2}]}", along: a, amount: b}}\n'
        '- {name: kept, save: {file: "${drawn.png}", to: "out/a.png"}}\n- {name: after, set: {a: 1}}\n'
    )
    assert flow is not None
    tried = app.trying.run(flow, app.files.put(b"hello"), "a.txt")
    assert [(each.path, each.would) for each in tried.steps if each.would] == [("kept", "The file would be saved as out/a.png.")]
    assert tried.stands == "done"
    assert not (app.home / "out").exists()
    made = next(each.result["png"] for each in tried.steps if each.path == "drawn")
    assert not app.files.here(made), "what a step makes is not kept, either"
