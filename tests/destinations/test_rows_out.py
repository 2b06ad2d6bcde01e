"""Destinations: one contract for all, and what is particular to each."""

from __future__ import annotations

import sqlite3
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from openpyxl import load_workbook

from metrikon.connections.sql import file_engine
from metrikon.destinations.files import LocalFile
from metrikon.destinations.memory import MemoryDestination
from metrikon.destinations.sheets import SheetDestination
from metrikon.destinations.sql import SqlDestination
from metrikon.destinations.walking import AT_ONCE
from metrikon.destinations.xlsx import XlsxFormat
from metrikon.ports.destination import KEY_COLUMN, Broken, Busy, Destination, Row
from tests.destinations import ailing
from tests.destinations.contract import AILS, Contract, row
from tests.destinations.test_sheets import HERE


class TestMemory(Contract):
    ails = dict.fromkeys(AILS, "it holds rows in memory")

    def make(self, folder: Path) -> Destination:
        return MemoryDestination()

    def held(self, folder: Path, made: Destination) -> dict[str, str]:
        assert isinstance(made, MemoryDestination)
        return {key: str(values["Amount"]) for key, values in made.rows.items()}

    def test_it_fails_when_told_to(self, tmp_path: Path) -> None:
        made = MemoryDestination()
        made.fail_next = [Busy("later")]
        with pytest.raises(Busy):
            made.write([row("a")])
        assert made.write([row("a")])[0].result == "written"


class TestXlsx(Contract):
    name = "ledger.xlsx"
    ails = HERE

    def make(self, folder: Path) -> Destination:
        return SheetDestination(LocalFile(folder / "ledger.xlsx"), XlsxFormat("Lines"), "Lines")

    def sheet(self, folder: Path) -> Any:
        return load_workbook(folder / "ledger.xlsx")["Lines"]

    def held(self, folder: Path, made: Destination) -> dict[str, str]:
        rows = list(self.sheet(folder).iter_rows(values_only=True))
        heads = list(rows[0])
        filled = [each for each in rows[1:] if any(cell is not None for cell in each)]
        return {each[heads.index(KEY_COLUMN)]: f"{Decimal(str(each[heads.index('Amount')])):.2f}" for each in filled}

    def test_a_formula_stays_text(self, tmp_path: Path) -> None:
        self.make(tmp_path).write([row("a", Vendor="=HYPERLINK(1)")])
        cell = self.sheet(tmp_path)["A2"]
        assert (cell.data_type, cell.value) == ("s", "=HYPERLINK(1)")

    def test_dates_and_figures_are_typed(self, tmp_path: Path) -> None:
        self.make(tmp_path).write([row("a")])
        sheet = self.sheet(tmp_path)
        assert sheet["D2"].is_date
        assert sheet["C2"].number_format == "#,##0.00"
        assert sheet["E2"].value is None
        assert sheet.column_dimensions["F"].hidden

    @pytest.mark.parametrize("lock", [".~lock.ledger.xlsx#", "~$ledger.xlsx"])
    def test_a_workbook_open_elsewhere_is_left_alone(self, lock: str, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        made.write([row("a")])
        (tmp_path / lock).touch()
        with pytest.raises(Busy, match="open in another program"):
            made.write([row("b")])
        (tmp_path / lock).unlink()
        assert made.write([row("b")])[0].result == "written"

    def test_a_workbook_changed_meanwhile_is_not_overwritten(self, tmp_path: Path) -> None:
        class Slow(XlsxFormat):
            """While it is at work, a person saves the file."""

            def save(self, *given: Any, **more: Any) -> None:
                super().save(*given, **more)
                book = load_workbook(tmp_path / "ledger.xlsx")
                book["Lines"]["A9"] = "by hand"
                book.save(tmp_path / "ledger.xlsx")

        self.make(tmp_path).write([row("a")])
        slow = SheetDestination(LocalFile(tmp_path / "ledger.xlsx"), Slow("Lines"), "Lines")
        with pytest.raises(Busy, match="changed by someone else"):
            slow.write([row("b")])
        self.make(tmp_path).write([row("b")])
        assert self.sheet(tmp_path)["A9"].value == "by hand"

    def test_what_a_person_changed_stays(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        made.write([row("a")])
        book = load_workbook(tmp_path / "ledger.xlsx")
        book["Lines"]["A2"] = "Fernhill (paid)"
        book.save(tmp_path / "ledger.xlsx")
        made.write([row("a"), row("b")])
        assert self.sheet(tmp_path)["A2"].value == "Fernhill (paid)"

    def test_a_file_that_is_no_workbook_is_not_touched(self, tmp_path: Path) -> None:
        (tmp_path / "ledger.xlsx").write_text("not a workbook")
        with pytest.raises(Broken, match="no workbook"):
            self.make(tmp_path).write([row("a")])
        assert (tmp_path / "ledger.xlsx").read_text() == "not a workbook"

    def test_a_save_that_fails_leaves_the_old_file_whole(self, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        made = self.make(tmp_path)
        made.write([row("a")])

        def full(*_: object) -> None:
            raise OSError(28, "No space left on device")

        monkeypatch.setattr("metrikon.destinations.files.os.fsync", full)
        with pytest.raises(Busy, match="No space left"):
            made.write([row("b")])
        assert self.held(tmp_path, made) == {"a": "97.00"}
        assert [path.name for path in tmp_path.iterdir()] == ["ledger.xlsx"]


class TestSqlite(Contract):
    name = "ledger.db"
    ails = {
        "full": ailing.full,
        "over its quota": ailing.over_quota,
        "read-only": ailing.read_only,
        "locked": ailing.held_database,
        "slow": ailing.slow_database,
        "gone": "a file here is there, or is made",
        "its answer lost": "nothing lies between a file here and who writes it",
        "changed meanwhile": ailing.table_changed,
        "put in another order": "rows of a table have none",
    }

    def make(self, folder: Path) -> Destination:
        engine = file_engine(folder / "ledger.db")
        return SqlDestination(lambda: engine, "rows")

    def held(self, folder: Path, made: Destination) -> dict[str, str]:
        with sqlite3.connect(folder / "ledger.db") as connection:
            rows = connection.execute(f"SELECT {KEY_COLUMN}, amount FROM rows ORDER BY rowid").fetchall()
        return {key: f"{Decimal(str(amount)):.2f}" for key, amount in rows}

    def test_amounts_can_be_summed_and_compared_and_come_back_as_they_were(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        amounts = [Decimal("0.30"), Decimal("12345678901.25"), Decimal("-7"), Decimal("0.000001")]
        made.write([row(f"k{number}", Amount=each) for number, each in enumerate(amounts)])
        with sqlite3.connect(tmp_path / "ledger.db") as connection:
            assert connection.execute("SELECT COUNT(*) FROM rows WHERE amount > 0.2 AND amount < 9 AND date > '2026-01-01'").fetchone() == (1,)
        assert isinstance(made, SqlDestination)
        assert [each["amount"] for each in made.find({}, 9)] == amounts

    def test_a_number_that_it_would_round_is_refused(self, tmp_path: Path) -> None:
        with pytest.raises(Broken, match="at most 15 digits"):
            self.make(tmp_path).write([row("a", Amount=Decimal("1234567890.1234567"))])

    def test_a_table_of_an_earlier_version_goes_on_with_its_texts(self, tmp_path: Path) -> None:
        with sqlite3.connect(tmp_path / "ledger.db") as connection:
            connection.execute(f"CREATE TABLE rows ({KEY_COLUMN} TEXT PRIMARY KEY, vendor TEXT, line TEXT, amount TEXT, date TEXT, due TEXT)")
        self.make(tmp_path).write([row("a", Amount=Decimal("0.30"))])
        with sqlite3.connect(tmp_path / "ledger.db") as connection:
            assert connection.execute("SELECT amount, typeof(amount), line FROM rows").fetchone() == ("0.30", "text", "1")

    def test_a_locked_database_is_busy(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        made.write([row("a")])
        other = sqlite3.connect(tmp_path / "ledger.db", isolation_level=None)
        other.execute("BEGIN IMMEDIATE")
        with pytest.raises(Busy, match="locked"):
            made.write([row("b")])
        other.execute("ROLLBACK")
        other.close()
        assert made.write([row("b")])[0].result == "written"

    def test_a_table_of_somebody_else_is_not_written_to(self, tmp_path: Path) -> None:
        with sqlite3.connect(tmp_path / "ledger.db") as connection:
            connection.execute("CREATE TABLE rows (vendor TEXT)")
        with pytest.raises(Broken, match=KEY_COLUMN):
            self.make(tmp_path).write([row("a")])

    def test_a_row_of_a_table_that_takes_rows_twice_is_not_written(self, tmp_path: Path) -> None:
        with sqlite3.connect(tmp_path / "ledger.db") as connection:
            connection.execute(f"CREATE TABLE rows ({KEY_COLUMN} TEXT, vendor TEXT)")
        with pytest.raises(Broken, match="no unique index"):
            self.make(tmp_path).write([Row("a", {"vendor": "Fernhill"})])

    @pytest.mark.parametrize("made", ["TABLE", "TABLE WITHOUT ROWID", "VIEW"])
    def test_many_rows_come_one_after_the_other_and_lock_nobody_out(self, made: str, tmp_path: Path) -> None:
        count = 2 * AT_ONCE
        with sqlite3.connect(tmp_path / "ledger.db") as connection:
            kept = "rows" if made != "VIEW" else "kept"
            connection.execute(
                f"CREATE TABLE {kept} ({KEY_COLUMN} INTEGER PRIMARY KEY, name TEXT) {'WITHOUT ROWID' if made.endswith('ROWID') else ''}"
            )
            connection.executemany(f"INSERT INTO {kept} VALUES (?, ?)", [(number, f"n{number}") for number in range(count)])
            if made == "VIEW":
                connection.execute("CREATE VIEW rows AS SELECT * FROM kept")
        looked = self.make(tmp_path)
        assert isinstance(looked, SqlDestination)
        walk = looked.find({}, count)
        assert next(walk) == {"name": "n0"}
        with sqlite3.connect(tmp_path / "ledger.db", timeout=0) as connection:
            connection.execute("CREATE TABLE other (name TEXT)")
        assert [each["name"] for each in walk] == [f"n{number}" for number in range(1, count)]
        assert len(list(looked.find({"name": "n7"}, 1))) == 1
        with pytest.raises(Broken, match=f"holds more than {count - 1} rows like these"):
            list(looked.find({}, count - 1))
