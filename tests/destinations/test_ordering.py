"""Rows kept in a set order: which stands where, what goes with a row that moves, and what is refused since it would mean something else."""

from __future__ import annotations

import shutil
import subprocess
import zipfile
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from openpyxl import Workbook, load_workbook
from openpyxl.comments import Comment

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.core.flows.problems import BadFlow
from metrikon.destinations.csv import KIND as CSV
from metrikon.destinations.csv import CsvFile
from metrikon.destinations.files import LocalFile
from metrikon.destinations.ordering import Move, SortBy, copied, in_order, moved
from metrikon.destinations.sheets import SheetDestination
from metrikon.destinations.workbook import letters
from metrikon.ports.destination import Row, Searchable, There, Unusable
from tests.destinations.test_sheets import FORMATS
from tests.helpers import at_rest

BEST = (SortBy(column="Mark", descending=True), SortBy(column="Name"))
NAMES = ["ledger.xlsx", "ledger.ods", "ledger.csv"]


def sheet(path: Path, by: tuple[SortBy, ...] = BEST) -> SheetDestination:
    return SheetDestination(LocalFile(path), FORMATS[path.suffix[1:]], "" if path.suffix == ".csv" else "Lines", (), by)


def applicant(name: str, mark: Any) -> Row:
    return Row(f"key of {name}", {"Name": name, "Mark": mark})


def names(made: Searchable) -> list[str]:
    return [str(row["Name"]) for row in made.find({}, 10_000)]


cells = st.one_of(st.none(), st.integers(-5, 5), st.decimals(-5, 5, places=1), st.sampled_from(["a", "B", "b", "2026-03-04", "2026-03-04T10:00:00"]))


@given(st.dictionaries(st.integers(2, 14), st.tuples(cells, cells), max_size=12), st.booleans(), st.booleans())
def test_an_order_keeps_every_row_and_is_the_same_when_it_is_made_again(rows: dict[int, tuple[Any, Any]], down: bool, also: bool) -> None:
    by = (SortBy(column="x", descending=down), SortBy(column="y", descending=also))
    order = in_order(by, rows, 14) or list(range(2, 15))
    assert sorted(order) == list(range(2, 15))
    assert in_order(by, {now: rows[before] for now, before in enumerate(order, 2) if before in rows}, 14) is None
    there = [rows[each] for each in order if each in rows]
    assert all(each not in rows for each in order[len(there) :])
    figures = [first for first, _ in there if isinstance(first, int | Decimal)]
    assert figures == sorted(figures, reverse=down)
    assert [first is None for first, _ in there] == sorted(first is None for first, _ in there)


def test_what_is_no_number_stands_among_the_texts() -> None:
    rows = {2: (Decimal("NaN"),), 3: (Decimal(4),), 4: ("x",), 5: (Decimal("Infinity"),)}
    assert in_order((SortBy(column="x"),), rows, 5) == [3, 5, 2, 4]


@pytest.mark.parametrize("name", NAMES)
def test_new_rows_and_rows_that_are_set_come_to_their_place(name: str, tmp_path: Path) -> None:
    made = sheet(tmp_path / name)
    said = made.write([applicant("Ada", 3), applicant("Bo", 9), applicant("Cy", None), applicant("Di", Decimal("7.5"))])
    assert [each.place.rpartition(" ")[2] for each in said] == ["4", "2", "5", "3"]
    assert names(made) == ["Bo", "Di", "Ada", "Cy"]
    said = made.write([Row("key of Ada", {"Mark": 10}, sets=True), applicant("Bo", 1), applicant("Al", 9)])
    assert [(each.result, each.place.rpartition(" ")[2]) for each in said] == [("updated", "2"), ("there already", "4"), ("written", "3")]
    assert names(sheet(tmp_path / name)) == ["Ada", "Al", "Bo", "Di", "Cy"]
    assert [each.result for each in made.write([applicant("Ada", 1), applicant("Cy", 2)])] == ["there already"] * 2


def test_rows_whose_keys_stand_in_a_file_beside_are_sorted_and_known_again(tmp_path: Path) -> None:
    made = CSV.build(CsvFile(path="a.csv", key_in="side file", sorted_by=list(BEST)), There(tmp_path))
    made.write([applicant("Ada", 3), applicant("Bo", 9)])
    made.write([Row("key of Ada", {"Mark": 10}, sets=True), applicant("Cy", 11)])
    assert isinstance(made, Searchable)
    assert names(made) == ["Cy", "Ada", "Bo"]
    assert [each.result for each in made.write([applicant("Ada", 1), applicant("Bo", 1), applicant("Cy", 1)])] == ["there already"] * 3


def _book(path: Path, formula: str = "=B{row}*2") -> None:
    book = Workbook()
    lines = book.active
    assert lines is not None
    lines.title = "Lines"
    lines.append(["Name", "Mark", "Twice", "Page"])
    for row, (name, mark) in enumerate([("Ada", 3), ("Bo", 9), ("Cy", 5)], 2):
        lines.append([name, mark, formula.format(row=row), "see"])
        lines[f"D{row}"].hyperlink = f"https://garden.example/{name}"
    lines["A3"].comment = Comment("to be invited", "Tove")
    other = book.create_sheet("Sums")
    other["A1"] = "=SUM(Lines!B2:B99)"
    book.save(path)


def _as_office_reads(path: Path, folder: Path) -> list[list[str]]:
    office = shutil.which("soffice")
    assert office, "the tests install it"
    told = ["--convert-to", "csv", "--outdir", str(folder / "out"), str(path)]
    subprocess.run([office, f"-env:UserInstallation=file://{folder}/office", "--headless", *told], check=True, capture_output=True, timeout=120)
    return [line.split(",") for line in (folder / "out" / f"{path.stem}.csv").read_text().splitlines()]


def test_formulas_links_and_notes_go_with_their_row(tmp_path: Path) -> None:
    path = tmp_path / "people.xlsx"
    _book(path)
    sheet(path).write([applicant("Di", 7), applicant("Ed", 99)])
    lines = load_workbook(path)["Lines"]
    assert [[cell.value for cell in row][:3] for row in lines.iter_rows(min_row=2)] == [
        ["Ed", 99, None],
        ["Bo", 9, "=B3*2"],
        ["Di", 7, None],
        ["Cy", 5, "=B5*2"],
        ["Ada", 3, "=B6*2"],
    ]
    assert {cell.coordinate: cell.hyperlink.target for row in lines.iter_rows() for cell in row if cell.hyperlink} == {
        "D3": "https://garden.example/Bo",
        "D5": "https://garden.example/Cy",
        "D6": "https://garden.example/Ada",
    }
    assert [cell.coordinate for row in lines.iter_rows() for cell in row if cell.comment] == ["A3"]
    assert [row[2] for row in _as_office_reads(path, tmp_path)] == ["Twice", "", "18", "", "10", "6"]


def test_a_formula_that_an_office_program_shares_between_rows_is_the_same_in_each(tmp_path: Path) -> None:
    path = tmp_path / "people.xlsx"
    _book(path)
    with zipfile.ZipFile(path) as held:
        parts = {each: held.read(each) for each in held.namelist()}
    name = "xl/worksheets/sheet1.xml"
    told = parts[name].decode()
    told = told.replace("<f>B2*2</f>", '<f t="shared" ref="C2:C4" si="0">B2*2</f>')
    for row in (3, 4):
        told = told.replace(f"<f>B{row}*2</f>", '<f t="shared" si="0"/>')
    assert told.count('si="0"') == 3
    with zipfile.ZipFile(path, "w") as made:
        for each, data in {**parts, name: told.encode()}.items():
            made.writestr(each, data)
    sheet(path).write([applicant("Ed", 99)])
    assert [cell.value for cell in load_workbook(path)["Lines"]["C"]] == ["Twice", None, "=B3*2", "=B4*2", "=B5*2"]


@pytest.mark.parametrize("formula", ["=B{row}+B3", "=SUM(B$2:B{row})", "=Lines!B{row}"])
def test_a_formula_that_speaks_of_other_rows_is_not_moved_and_nothing_is_written(formula: str, tmp_path: Path) -> None:
    path = tmp_path / "people.xlsx"
    _book(path, formula)
    before = path.read_bytes()
    with pytest.raises(Unusable, match="speaks of other rows"):
        sheet(path).write([applicant("Ed", 99)])
    assert path.read_bytes() == before
    sheet(path, ()).write([applicant("Ed", 99)])
    assert names(sheet(path, ())) == ["Ada", "Bo", "Cy", "Ed"]


@pytest.mark.parametrize(
    ("formula", "becomes"),
    [
        ("D7*$E$60", "D3*$E$60"),
        ("SUM(B7:C7)/SUM($B$2:$B$50)", "SUM(B3:C3)/SUM($B$2:$B$50)"),
        ('LOG10(D7)&"D8"&Prices!A5', 'LOG10(D3)&"D8"&Prices!A5'),
        ("SUM(7:7)+SUM(B:B)+B1", "SUM(3:3)+SUM(B:B)+B1"),
    ],
)
def test_what_a_formula_says_of_its_own_row_goes_with_it_and_the_rest_stays(formula: str, becomes: str) -> None:
    assert moved(formula, Move(7, 3, 50, "Lines"), "F7") == becomes


def test_a_formula_of_a_sheet_in_the_open_form_moves_the_same_way() -> None:
    move = Move(7, 3, 50, "Lines")
    assert moved("of:=[.D7]*[.$E7:.F7]+[$Prices.A5]", move, "G7", opened=True) == "of:=[.D3]*[.$E3:.F3]+[$Prices.A5]"
    for other in ("of:=[.D6]", "of:=[$Lines.D7]", "of:=[$'Lines'.D7]"):
        with pytest.raises(Unusable, match="other rows"):
            moved(other, move, "G7", opened=True)


@settings(max_examples=200)
@given(st.integers(1, 40), st.integers(1, 40), st.integers(0, 20))
def test_a_formula_that_is_shared_down_and_moved_back_is_what_it_was(row: int, column: int, down: int) -> None:
    said = f"{letters(column)}{row}*2+$A${row}"
    there = copied(said, down, 0)
    assert there == f"{letters(column)}{row + down}*2+$A${row}"
    assert copied(there, -down, 0) == said


def test_cells_that_go_over_several_rows_are_not_torn(tmp_path: Path) -> None:
    path = tmp_path / "people.xlsx"
    _book(path)
    book = load_workbook(path)
    book["Lines"].merge_cells("C2:C3")
    book.save(path)
    with pytest.raises(Unusable, match="several rows"):
        sheet(path).write([applicant("Ed", 99)])


def test_a_column_that_is_not_there_is_told_when_the_flow_is_kept_and_one_that_comes_with_rows_will_do(tmp_path: Path) -> None:
    app = App(Settings(home=tmp_path / "home"))
    text = """metrikon: 1
name: people
intakes: [{kind: upload}]
destinations:
  list: {kind: csv, path: people.csv, sorted_by: [{column: %s, descending: true}]}
steps:
- {name: row, write: {to: list, key: ["${item.name}"], columns: {Name: "${item.name}", Size: "${string length(item.name)}"}}}
"""
    try:
        with pytest.raises(BadFlow, match=r"list has no column 'Sise'.*Size") as told:
            app.catalog.put_flow(text % "Sise")
        assert told.value.problems[0].place == "destinations/list/sorted_by/0/column"
        app.catalog.put_flow(text % "Size")
        app.start()
        for size in (2, 9, 4):
            app.arrivals.take("people", "upload", str(size), "x" * size, b"x" * size)
            at_rest(app, 1)
        assert [line.split(",")[0] for line in (tmp_path / "home" / "people.csv").read_text().splitlines()[1:]] == ["x" * 9, "x" * 4, "x" * 2]
        app.catalog.put_flow((text % "Size").replace("true", "false"))  # what is said of the place is taken up by the next row
        app.arrivals.take("people", "upload", "1", "x", b"x")
        at_rest(app, 4)
        assert [line.split(",")[0] for line in (tmp_path / "home" / "people.csv").read_text().splitlines()[1:]] == ["x", "x" * 2, "x" * 4, "x" * 9]
    finally:
        app.close()


def _with_chain(path: Path) -> None:
    """A workbook with the list of cells with formulas that office programs keep."""
    with zipfile.ZipFile(path) as held:
        parts = {each: held.read(each) for each in held.namelist()}
    kind = "application/vnd.openxmlformats-officedocument.spreadsheetml.calcChain+xml"
    relation = "http://schemas.openxmlformats.org/officeDocument/2006/relationships/calcChain"
    parts["xl/calcChain.xml"] = b'<calcChain xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><c r="C2" i="1"/></calcChain>'
    for name, end, told in (
        ("[Content_Types].xml", b"</Types>", f'<Override PartName="/xl/calcChain.xml" ContentType="{kind}"/>'),
        ("xl/_rels/workbook.xml.rels", b"</Relationships>", f'<Relationship Id="chain" Type="{relation}" Target="calcChain.xml"/>'),
    ):
        parts[name] = parts[name].replace(end, told.encode() + end)
    with zipfile.ZipFile(path, "w") as made:
        for each, data in parts.items():
            made.writestr(each, data)


@pytest.mark.parametrize(
    ("by", "rows", "stays"),
    [
        ((), [applicant("Ed", 1)], True),
        (BEST, [applicant("Ed", 99)], False),
        ((), [Row("key of Ed", {"Name": "Ed", "Twice": 1}), Row("key of Ed", {"Twice": 2}, sets=True)], True),
    ],
)
def test_the_list_of_formulas_stays_only_while_it_tells_the_truth(by: tuple[SortBy, ...], rows: list[Row], stays: bool, tmp_path: Path) -> None:
    path = tmp_path / "people.xlsx"
    _book(path)
    _with_chain(path)
    sheet(path, by).write(rows)
    with zipfile.ZipFile(path) as held:
        everything = b"".join(held.read(each) for each in held.namelist())
        assert ("xl/calcChain.xml" in held.namelist(), b"calcChain" in everything) == (stays, stays)
    load_workbook(path)


def test_a_value_in_the_place_of_a_formula_takes_it_off_that_list(tmp_path: Path) -> None:
    path = tmp_path / "people.xlsx"
    _book(path)
    _with_chain(path)
    made = SheetDestination(LocalFile(path), FORMATS["xlsx"], "Lines", ("Name",))
    made.write([Row("k", {"Name": "Ada", "Twice": 7}, sets=True)])
    with zipfile.ZipFile(path) as held:
        assert "xl/calcChain.xml" not in held.namelist()
    assert load_workbook(path)["Lines"]["C2"].value == 7
