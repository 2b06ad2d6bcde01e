"""Sheets of all forms, here and on a server: the contract, what stays as it was, and what an office program reads in them."""

from __future__ import annotations

import csv
import io
import re
import shutil
import subprocess
import zipfile
from collections.abc import Mapping
from datetime import date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any
from urllib.request import Request, urlopen

import pytest
import python_calamine
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from openpyxl import Workbook, load_workbook
from openpyxl.chart import BarChart, Reference
from openpyxl.styles import Font, PatternFill
from openpyxl.worksheet.table import Table

from metrikon.app.assemble import App
from metrikon.destinations.cells import Link, cell_value
from metrikon.destinations.csv import KIND as CSV
from metrikon.destinations.csv import CsvFile, CsvFormat, SideFile
from metrikon.destinations.files import LocalFile, RemoteFile
from metrikon.destinations.ods import OdsFormat
from metrikon.destinations.sheets import SheetDestination, SheetFormat
from metrikon.destinations.xlsx import XlsxFormat
from metrikon.ports.destination import KEY_COLUMN, Broken, Busy, Destination, Row, There, Unusable
from tests.dav import SECRET, USER, DavServer
from tests.destinations import ailing
from tests.destinations.contract import Ailing, Contract, row

FORMATS: dict[str, SheetFormat] = {"xlsx": XlsxFormat("Lines"), "ods": OdsFormat("Lines"), "csv": CsvFormat()}


def sheet(path: Path, key: tuple[str, ...] = (), *, refuse: bool = False) -> SheetDestination:
    return SheetDestination(LocalFile(path), FORMATS[path.suffix[1:]], "" if path.suffix == ".csv" else "Lines", key, refuse=refuse)


def read(path: Path) -> list[dict[str, Any]]:
    """The rows of a sheet as another program reads them."""
    if path.suffix == ".csv":
        with path.open(newline="", encoding="utf-8-sig") as source:
            return list(csv.DictReader(source))
    rows = python_calamine.CalamineWorkbook.from_path(str(path)).get_sheet_by_name("Lines").to_python()
    return [dict(zip(map(str, rows[0]), each, strict=False)) for each in rows[1:]]


HERE: Mapping[str, Ailing | str] = {
    "full": ailing.full,
    "over its quota": ailing.over_quota,
    "read-only": ailing.read_only,
    "locked": ailing.open_elsewhere,
    "slow": "a file here is as fast as its disk",
    "gone": "a folder here is there, or is made",
    "its answer lost": "a file here is put in place whole, or not at all",
    "changed meanwhile": ailing.column_put_in,
    "put in another order": ailing.rows_turned,
}
SERVED: Mapping[str, Ailing | str] = {
    **{each: ailing.dav(each) for each in ("full", "over its quota", "read-only", "slow", "its answer lost")},
    "locked": "see the test of a locked file",
    "gone": ailing.gone,
    "changed meanwhile": "as of a file here; see the test of a file that somebody has changed",
    "put in another order": "as of a file here",
}


class SheetContract(Contract):
    name = ""
    ails = HERE

    def make(self, folder: Path) -> Destination:
        return sheet(folder / self.name)

    def held(self, folder: Path, made: Destination) -> dict[str, str]:
        return {each[KEY_COLUMN]: f"{Decimal(str(each['Amount'])):.2f}" for each in read(folder / self.name) if each[KEY_COLUMN]}


class TestOds(SheetContract):
    name = "ledger.ods"


class TestCsv(SheetContract):
    name = "ledger.csv"


class TestCsvWithKeysBeside(Contract):
    name = "ledger.csv"
    ails = {**HERE, "changed meanwhile": "its columns are fixed: a row that was changed is none of ours"}

    def make(self, folder: Path) -> Destination:
        return CSV.build(CsvFile(path="ledger.csv", key_in="side file"), There(folder))

    def held(self, folder: Path, made: Destination) -> dict[str, str]:
        keys = SideFile(folder / ".ledger.csv.keys").held(folder / "ledger.csv", ()).keys
        rows = read(folder / "ledger.csv")
        assert KEY_COLUMN not in rows[0]
        return {key: f"{Decimal(rows[number - 2]['Amount']):.2f}" for key, number in sorted(keys.items(), key=lambda each: each[1])}

    def test_a_file_that_was_sorted_by_a_person_takes_no_row_twice(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        made.write([row("a", Vendor="Zinnia"), row("b", Vendor="Aster")])
        lines = (tmp_path / "ledger.csv").read_bytes().splitlines(keepends=True)
        (tmp_path / "ledger.csv").write_bytes(b"".join([lines[0], lines[2], lines[1]]))
        assert [each.result for each in made.write([row("a"), row("b"), row("c")])] == ["there already", "there already", "written"]

    def test_a_row_whose_writing_was_cut_off_is_written_once(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        made.write([row("a")])
        before = (tmp_path / "ledger.csv").read_bytes()
        made.write([row("b")])
        beside = tmp_path / ".ledger.csv.keys"
        lines = [line for line in beside.read_text().splitlines() if line]
        beside.write_text("\n".join(lines[:-1]))  # killed before it was settled, the row written
        assert self.make(tmp_path).write([row("b")])[0].result == "there already"
        beside.write_text("\n".join(lines[:-1]))
        (tmp_path / "ledger.csv").write_bytes(before)  # killed before the row was written
        assert self.make(tmp_path).write([row("b")])[0].result == "written"
        assert self.make(tmp_path).write([row("b")])[0].result == "there already"


class Served(Contract):
    name = ""
    ails = SERVED

    @pytest.fixture(autouse=True)
    def _place(self, served: tuple[DavServer, App]) -> None:
        self.server, self.app = served

    def make(self, folder: Path) -> Destination:
        return SheetDestination(RemoteFile(self.app.outside, "files", self.name), FORMATS[self.name.rpartition(".")[2]], "Lines")

    def held(self, folder: Path, made: Destination) -> dict[str, str]:
        return {each[KEY_COLUMN]: f"{Decimal(str(each['Amount'])):.2f}" for each in read(self.server.root / self.name) if each[KEY_COLUMN]}

    def test_a_file_that_somebody_has_changed_meanwhile_is_not_overwritten(self, tmp_path: Path) -> None:
        self.make(tmp_path).write([row("a")])
        place = RemoteFile(self.app.outside, "files", self.name)
        theirs = (self.server.root / self.name).read_bytes()

        def ours(out: Path) -> None:
            out.write_bytes(b"ours")

        with place.copied() as copy:
            (self.server.root / self.name).write_bytes(theirs)  # saved anew by somebody
            with pytest.raises(Busy, match="changed by someone else"):
                place.put(ours, copy)
        assert (self.server.root / self.name).read_bytes() == theirs

    def test_a_locked_file_is_waited_for(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        made.write([row("a")])
        import base64

        body = b'<?xml version="1.0"?><lockinfo xmlns="DAV:"><lockscope><exclusive/></lockscope><locktype><write/></locktype></lockinfo>'
        signed = "Basic " + base64.b64encode(f"{USER}:{SECRET}".encode()).decode()
        asked = Request(
            f"{self.server.url}/{self.name}",
            body,
            {"Authorization": signed, "Content-Type": "application/xml", "Timeout": "Second-60"},
            method="LOCK",
        )
        with urlopen(asked) as answer:
            token = answer.headers["Lock-Token"]
        with pytest.raises(Busy, match="locked by somebody"):
            made.write([row("b")])
        urlopen(Request(f"{self.server.url}/{self.name}", None, {"Authorization": signed, "Lock-Token": token}, method="UNLOCK")).close()
        assert made.write([row("b")])[0].result == "written"


class TestServedXlsx(Served):
    name = "ledger.xlsx"


class TestServedCsv(Served):
    name = "ledger.csv"


def _of_a_person(path: Path) -> None:
    """A workbook as people make them: two sheets, a chart, formulas, colours, a filter, a table, a wide column."""
    book = Workbook()
    other = book.active
    assert other is not None
    other.title = "Totals"
    other["A1"], other["B1"] = "Sum", "=SUM(Lines!C2:C999)"
    other["A1"].fill = PatternFill("solid", "FFDDAA")
    lines = book.create_sheet("Lines")
    lines.append(["Vendor", "Date", "Amount", "Checked"])
    lines.append(["Fernhill", date(2026, 3, 1), 12.5, "yes"])
    lines["B2"].number_format, lines["C2"].number_format, lines["C2"].font = "dd.mm.yyyy", "0.000", Font(color="AA0000")
    lines.column_dimensions["A"].width = 44
    lines.auto_filter.ref = "A1:D2"
    chart = BarChart()
    chart.add_data(Reference(lines, min_col=3, min_row=1, max_row=2), titles_from_data=True)
    other.add_chart(chart, "D4")  # type: ignore[call-arg]
    third = book.create_sheet("Stock")
    third.append(["Plant", "Count"])
    third.append(["Fern", 3])
    third.add_table(Table(displayName="stock", ref="A1:B2"))
    book.save(path)


def test_all_else_in_a_workbook_stays_byte_for_byte_and_new_rows_look_like_those_above(tmp_path: Path) -> None:
    path = tmp_path / "ledger.xlsx"
    _of_a_person(path)
    with zipfile.ZipFile(path) as held:
        before = {name: held.read(name) for name in held.namelist()}
    sheet(path).write([Row("k", {"Vendor": "=1+1", "Date": "2026-04-05", "Amount": Decimal("7.25"), "Checked": None})])
    with zipfile.ZipFile(path) as held:
        after = {name: held.read(name) for name in held.namelist()}
    assert before.keys() == after.keys()
    assert {name for name in before if before[name] != after[name]} == {"xl/worksheets/sheet2.xml", "xl/styles.xml"}
    lines = load_workbook(path)["Lines"]
    assert [cell.value for cell in lines[3]][:4] == ["=1+1", datetime(2026, 4, 5), 7.25, None]
    assert (lines["A3"].data_type, lines["B3"].number_format, lines["C3"].number_format, lines["C3"].font.color.rgb) == (
        "s",
        "dd.mm.yyyy",
        "0.000",
        "00AA0000",
    )
    assert (lines.column_dimensions["A"].width, lines.auto_filter.ref, lines.column_dimensions["E"].hidden) == (44, "A1:D3", True)


def test_a_table_and_a_sheet_that_is_new_take_rows(tmp_path: Path) -> None:
    path = tmp_path / "ledger.xlsx"
    _of_a_person(path)
    SheetDestination(LocalFile(path), XlsxFormat("Stock"), "Stock", ["Plant"]).write(
        [Row("x", {"plant": "Moss", "Count": 2}), Row("y", {"Plant": "Fern", "Count": 9}, sets=True)]
    )
    SheetDestination(LocalFile(path), XlsxFormat("New & other"), "New & other").write([Row("k", {"A": 1})])
    book = load_workbook(path)
    assert [[cell.value for cell in each] for each in book["Stock"].iter_rows()] == [["Plant", "Count"], ["Fern", 9], ["Moss", 2]]
    assert book["Stock"].tables["stock"].ref == "A1:B3"
    assert [[cell.value for cell in each] for each in book["New & other"].iter_rows()] == [["A", KEY_COLUMN], [1, "k"]]
    assert book.sheetnames == ["Totals", "Lines", "Stock", "New & other"]


@pytest.mark.parametrize("name", ["ledger.xlsx", "ledger.ods", "ledger.csv"])
def test_rows_are_told_apart_by_columns_of_the_sheet_itself(name: str, tmp_path: Path) -> None:
    path = tmp_path / name
    made = sheet(path, ("Order",))
    made.write([Row("1", {"Order": 7, "State": "new"}), Row("2", {"Order": 8, "State": "new"})])
    assert [
        each.result for each in made.write([Row("3", {"order": Decimal("7.0"), "State": "sent"}, sets=True), Row("4", {"Order": 8, "State": "x"})])
    ] == [
        "updated",
        "there already",
    ]
    assert [{key: str(value).removesuffix(".0") for key, value in each.items()} for each in read(path)] == [
        {"Order": "7", "State": "sent"},
        {"Order": "8", "State": "new"},
    ]
    with pytest.raises(Broken, match="no value for Order"):
        made.write([Row("5", {"State": "new"})])
    with pytest.raises(Unusable, match="no column Number"):
        sheet(path, ("Number",)).write([Row("5", {"Number": 1})])


def test_the_text_of_a_file_in_columns_stays_letter_by_letter(tmp_path: Path) -> None:
    path = tmp_path / "old.csv"
    path.write_bytes('Name;Town;"Note"\r\n"Ada";Köln;"two\r\nlines"\r\nBo;;'.encode("cp1252"))
    sheet(path, ("Name",)).write([Row("x", {"Name": "Cy", "Town": "Łódź"}), Row("y", {"Name": "Bo", "Town": "Rom"}, sets=True)])
    assert path.read_bytes().decode("cp1252") == 'Name;Town;"Note"\r\n"Ada";Köln;"two\r\nlines"\r\nBo;Rom;\r\nCy;?ód?;\r\n'


@pytest.mark.parametrize("name", ["ledger.xlsx", "ledger.ods", "ledger.csv"])
def test_an_office_program_reads_what_was_written(name: str, tmp_path: Path) -> None:
    office = shutil.which("soffice")
    assert office, "the tests install it"
    path = tmp_path / name
    made = sheet(path)
    made.write(
        [Row("a", {"Vendor": 'Fern & <Moss> "q" 🌱', "Amount": Decimal("1234.50"), "Date": "2026-03-04", "Paid": True, "Live": "=1+1", "Note": None})]
    )
    made.write([Row("b", {"Vendor": "two\nlines", "Amount": Decimal("-0.05"), "Date": "2026-12-31", "Paid": False, "Live": "@x", "Note": "n"})])
    made.write([Row("a", {"Amount": Decimal("99.00")}, sets=True)])
    as_text = (
        ["--infilter=CSV:44,34,76,1,,0,false,false"] if name.endswith("csv") else []
    )  # what its window proposes for a file with the mark of UTF-8
    told = [*as_text, "--convert-to", "csv:Text - txt - csv (StarCalc):44,34,76,1,,0,false,false,false", "--outdir", str(tmp_path / "out")]
    subprocess.run(
        [office, f"-env:UserInstallation=file://{tmp_path}/office", "--headless", *told, str(path)], check=True, capture_output=True, timeout=120
    )
    rows = read(tmp_path / "out" / "ledger.csv")
    first, second = rows
    live = "'=1+1" if name.endswith("csv") else "=1+1"
    assert (first["Vendor"], Decimal(first["Amount"]), first["Date"], first["Paid"].upper(), first["Live"], first["Note"]) == (
        'Fern & <Moss> "q" 🌱',
        Decimal("99"),
        "2026-03-04",
        "TRUE",
        live,
        "",
    )
    assert (second["Vendor"], Decimal(second["Amount"]), second["Date"], second["Note"]) == ("two\nlines", Decimal("-0.05"), "2026-12-31", "n")


values = st.one_of(
    st.none(),
    st.booleans(),
    st.integers(-(10**14), 10**14),
    st.decimals(-(10**9), 10**9, places=3),
    st.text(st.characters(exclude_categories=("Cs", "Cc")), max_size=30),
    st.dates(date(1901, 1, 1), date(2100, 1, 1)).map(lambda each: each.isoformat()),
)


@pytest.mark.parametrize("name", ["ledger.xlsx", "ledger.ods", "ledger.csv"])
@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(batches=st.lists(st.lists(st.tuples(st.sampled_from("abcdefgh"), values, st.booleans()), min_size=1, max_size=5), min_size=1, max_size=4))
def test_whatever_is_written_in_whatever_batches_is_found_again(name: str, batches: list[list[tuple[str, Any, bool]]], tmp_path: Path) -> None:
    path = tmp_path / name
    path.unlink(missing_ok=True)
    wanted: dict[str, Any] = {}
    for batch in batches:
        sheet(path).write([Row(key, {"Key": key, "Value": value}, sets=sets) for key, value, sets in batch])
        for key, value, sets in batch:
            if sets or key not in wanted:
                wanted[key] = value
    found = {each["Key"]: each["Value"] for each in sheet(path).find({}, 100)}
    assert list(found) == list(wanted)
    for key, value in wanted.items():
        assert _alike(found[key], value), (found[key], value)


def _alike(found: Any, value: Any) -> bool:
    if isinstance(value, str):
        bare = value.strip() if not value.strip() else value
        return str(found or "") == (bare if bare.strip() else found or "") or (found is not None and str(found) == value)
    return bool(found == value)


@pytest.mark.parametrize("name", ["ledger.xlsx", "ledger.ods"])
def test_what_is_no_sheet_or_unpacks_without_end_is_refused_in_words(name: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / name
    path.write_bytes(b"PK nothing")
    with pytest.raises(Unusable, match="Move it away or repair it"):
        sheet(path).write([row("a")])
    for module in ("workbook", "xlsx", "ods"):
        monkeypatch.setattr(f"metrikon.destinations.{module}.LARGEST", 10_000_000)
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as bomb, bomb.open("content.xml", "w") as part:
        for _ in range(12):
            part.write(b"\0" * 1_000_000)
    with pytest.raises(Unusable, match="unpacks to more than"):
        sheet(path).write([row("a")])


def test_a_row_that_a_cell_cannot_hold_is_refused_where_that_is_wanted(tmp_path: Path) -> None:
    for bad in ("a\x00b", "x" * 40_000):
        with pytest.raises(Broken, match="cannot hold"):
            sheet(tmp_path / "ledger.xlsx", refuse=True).write([Row("a", {"Note": bad})])


@pytest.mark.parametrize("name", ["ledger.xlsx", "ledger.ods", "ledger.csv"])
def test_a_link_to_the_original_stands_in_its_row_and_leads_nowhere_else(name: str, tmp_path: Path) -> None:
    path = tmp_path / name
    made = sheet(path)
    paper = {"link": 'papers/a "b"&c.pdf', "text": 'bill "9" & <co>'}
    made.write(
        [Row("a", {"File": paper, "Amount": Decimal(1)}), Row("b", {"File": {"link": "javascript:alert(1)", "text": "x"}, "Amount": Decimal(2)})]
    )
    shown = 'bill "9" & <co>' if not name.endswith("csv") else 'papers/a "b"&c.pdf'
    assert [row["File"] for row in made.find({}, 9)] == [shown, "x"]
    assert made.write([Row("a", {"File": paper, "Amount": Decimal(3)}, sets=True, was={"File": paper, "Amount": Decimal(1)})])[0].left == []
    if name.endswith("xlsx"):
        [one, other] = [row[0] for row in load_workbook(path).worksheets[0].iter_rows(min_row=2)]
        assert one.value == '=HYPERLINK("papers/a ""b""&c.pdf", "bill ""9"" & <co>")'
        assert other.value == "x"


@pytest.mark.parametrize("mark", [",", ";"])
@pytest.mark.parametrize(
    "text", ["\t=1+1", "\n=1", "＝1+1", "＋cmd", "a;=1+1", 'a, "=1', "x\t@SUM(A1)", "a|-cmd", "'=1", "a;'=1", "a, b; c", "3; -2"]
)
def test_no_cell_of_a_text_file_begins_a_formula_in_any_locale_and_each_is_read_as_it_was(mark: str, text: str, tmp_path: Path) -> None:
    path = tmp_path / "a.csv"
    path.write_text(f"Name{mark}Note{mark}delivery_key\n")
    made = SheetDestination(LocalFile(path), CsvFormat())
    made.write([Row("k", {"Name": "one", "Note": text})])
    assert made.write([Row("k", {"Name": "one", "Note": text})])[0].there == {}, "what is there is what was written"
    told = path.read_text("utf-8").partition("\n")[2]
    for other in ",;\t|":
        for cells in csv.reader(io.StringIO(told), delimiter=other, quoting=csv.QUOTE_NONE if other != mark else csv.QUOTE_MINIMAL):
            assert not [each for each in cells if re.match(r'\s*"?[=@＝＋]', each)], (other, cells)


@pytest.mark.parametrize(
    "place",
    ["file:///etc/passwd", r"\\server\share", "//server/share", "java\tscript:alert(1)", "jav\nascript:x", "java%73cript:x", "a:b/c", "C:\\x"],
)
def test_a_link_leads_to_a_page_a_mail_or_a_file_beside_and_nowhere_else(place: str) -> None:
    assert not isinstance(cell_value({"link": place, "text": "t"}), Link)
    for right in ("https://a.example/x y;b=c:d", "mailto:a@b.example", "papers/a b.pdf"):
        assert isinstance(cell_value({"link": right, "text": "t"}), Link)
