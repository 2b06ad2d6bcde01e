"""Rows of sheets and tables, and schedules: each row once, changed ones anew, each time once however the clocks are set."""

from __future__ import annotations

import csv
import sqlite3
from collections.abc import Callable
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import openpyxl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from metrikon.app.assemble import App
from metrikon.core.flows.model import Flow, Said
from metrikon.core.flows.problems import BadFlow
from metrikon.core.values.text import clean
from metrikon.intakes.rows import Rows, RowSource
from metrikon.intakes.schedule import Schedule, ScheduleSource
from metrikon.ports.clock import StillClock
from metrikon.ports.intake import Here, IntakeFailed
from metrikon.store import items
from tests.intakes.contract import FLOW, IntakeContract, Place, _items, _restarted, _taken

HEADS = ["Site", "Address", "Price"]


class Sheet(Place):
    kind, said, dated = "rows", ", path: sites.csv, key: [Site]", False

    def begin(self, app: App) -> None:
        self.path = app.home / "sites.csv"
        self.rows: list[list[str]] = []
        self._write()

    def _write(self) -> None:
        with self.path.open("w", newline="") as out:
            csv.writer(out).writerows([HEADS, *self.rows])

    def add(self, number: int, at: datetime) -> None:
        self.rows.append([f"site {number}", f"https://{number}.example", "1.10"])
        self._write()

    def condition(self, number: int) -> str:
        return f'item.data.Site != "site {number}"'

    def break_off(self) -> Callable[[], None]:
        self.path.unlink()
        return self._write


class TableRows(Sheet):
    said = ", url: 'sqlite:///sites.db', table: sites, key: [Site]"

    def begin(self, app: App) -> None:
        self.path = app.home / "sites.db"
        self._make()

    def _make(self) -> None:
        with sqlite3.connect(self.path) as connection:
            connection.execute("CREATE TABLE IF NOT EXISTS sites (Site TEXT PRIMARY KEY, Address TEXT, Price NUMERIC)")
        connection.close()

    def add(self, number: int, at: datetime) -> None:
        with sqlite3.connect(self.path) as connection:
            connection.execute("INSERT INTO sites VALUES (?, ?, ?)", (f"site {number}", f"https://{number}.example", "1.10"))
        connection.close()

    def break_off(self) -> Callable[[], None]:
        with sqlite3.connect(self.path) as connection:
            connection.execute("ALTER TABLE sites RENAME TO gone")
        connection.close()

        def mend() -> None:
            with sqlite3.connect(self.path) as connection:
                connection.execute("ALTER TABLE gone RENAME TO sites")
            connection.close()

        return mend


class TestSheet(IntakeContract):
    @pytest.fixture
    def place(self) -> Place:
        return Sheet()


class TestTable(IntakeContract):
    @pytest.fixture
    def place(self) -> Place:
        return TableRows()


def _put(app: App, kind: str, more: str) -> tuple[Flow, Said]:
    app.catalog.put_flow(FLOW % (kind, more))
    flow = app.catalog.newest_flow("letters")
    return flow, flow.intakes[0]


def _data(app: App) -> list[Any]:
    with app.database.reading() as connection:
        from metrikon.core.values.exact import loads

        return [loads((items.whole(connection, row["id"]) or {})["data"]) for row in reversed(_items(app))]


def _source(path: Path, **more: Any) -> RowSource:
    return RowSource(Rows(path=str(path), **more), Here(path.parent, 10**7))


def test_a_row_that_changed_is_taken_anew_and_one_that_only_moved_is_not(house: Callable[..., App]) -> None:
    app = house()
    place = Sheet()
    place.begin(app)
    flow, said = _put(app, "rows", place.said + ", which: changed")
    for number in range(3):
        place.add(number, datetime.now(UTC))
    _taken(app, flow, said, 3)
    place.rows[1][2] = "2.20"
    place.rows.reverse()
    place._write()
    _taken(app, flow, said, 1)
    assert _data(app)[-1] == {"Site": "site 1", "Address": "https://1.example", "Price": "2.20"}


def test_cells_of_a_workbook_keep_their_types(tmp_path: Path) -> None:
    book = openpyxl.Workbook()
    sheet = book.active
    assert sheet is not None
    for row in (
        ["Plant", "Price", "Sown", "Kept", "", "Plant"],
        ["Fern", 1.1, datetime(2026, 3, 4), True, None, "=1+1"],
        [None] * 6,
        ["Moss", 12, None, False],
    ):
        sheet.append(row)
    book.save(tmp_path / "plants.xlsx")
    things = list(_source(tmp_path / "plants.xlsx").things(""))
    assert [each.data["Plant"] for each in things] == ["Fern", "Moss"], "empty rows are none"
    first = things[0].data
    assert (str(first["Price"]), first["Sown"], first["Kept"]) == ("1.1", "2026-03-04", True)
    assert set(first) >= {"column 5", "Plant 6"}
    assert things[1].data["Price"] == 12


def test_two_rows_that_say_the_same_are_two(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("Plant;Price\nFern;1\nFern;1\n")
    assert len({each.identity for each in _source(tmp_path / "a.csv").things("")}) == 2


@pytest.mark.parametrize("data", [b"", b"\n\n", b"\xff\xfe\x00", b"a,b\n" + b'"' * 50, "Größe;Preis\nä;1\n".encode("latin-1"), b"x" * 5000])
def test_odd_files_are_read_or_told_of(data: bytes, tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_bytes(data)
    try:
        for each in _source(tmp_path / "a.csv").things(""):
            assert each.data
    except IntakeFailed as error:
        assert "has no heads" in str(error)


@given(rows=st.lists(st.lists(st.text(st.characters(exclude_categories=["Cs", "Cc"]), max_size=20), min_size=3, max_size=3), max_size=8))
@settings(max_examples=100, deadline=None)
def test_what_is_written_to_a_sheet_is_what_comes_of_it(rows: list[list[str]], tmp_path_factory: pytest.TempPathFactory) -> None:
    path = tmp_path_factory.mktemp("rows") / "a.csv"
    with path.open("w", newline="", encoding="utf-8") as out:
        csv.writer(out, quoting=csv.QUOTE_ALL).writerows([HEADS, *rows])
    found = [list(each.data.values()) for each in _source(path).things("")]
    wanted = [[clean(cell).strip() or None for cell in row] for row in rows]
    assert found == [row for row in wanted if any(row)]


def test_a_column_that_is_not_there_and_a_file_that_is_none_are_told_in_words(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("Plant\nFern\n")
    (tmp_path / "b.xlsx").write_bytes(b"no workbook")
    for source, told in (
        (_source(tmp_path / "a.csv", key=["Plnt"]), "has no column 'Plnt'"),
        (_source(tmp_path / "b.xlsx"), "no sheet that can be read"),
        (_source(tmp_path / "c.csv"), "No such file"),
    ):
        with pytest.raises(IntakeFailed, match=told):
            list(source.things(""))


def _times(expression: str, zone: str, begin: datetime, end: datetime, step: int = 600) -> list[str]:
    """The times of a schedule that is looked at every so many seconds."""
    source = ScheduleSource(Schedule(cron=expression), Here(Path(), 1, zone=ZoneInfo(zone)))
    cursor: Any = None
    found = []
    for moment in range(int(begin.timestamp()), int(end.timestamp()), step):
        for each in source.new(cursor, moment * 1000):
            cursor = each.cursor
            if each.identity:
                found.append(each.data["at"])
    return found


def test_where_the_clocks_go_forward_a_time_that_is_not_there_comes_once() -> None:
    found = _times("30 2 * * *", "Europe/Vienna", datetime(2026, 3, 27, 12, tzinfo=UTC), datetime(2026, 3, 31, tzinfo=UTC))
    assert [each[:10] for each in found] == ["2026-03-28", "2026-03-29", "2026-03-30"]


def test_where_the_clocks_go_back_a_time_that_is_there_twice_comes_once() -> None:
    found = _times("30 2 * * *", "Europe/Vienna", datetime(2026, 10, 23, 12, tzinfo=UTC), datetime(2026, 10, 27, tzinfo=UTC))
    assert [each[:10] for each in found] == ["2026-10-24", "2026-10-25", "2026-10-26"]


@given(
    hour=st.integers(0, 23),
    minute=st.integers(0, 59),
    zone=st.sampled_from(["Europe/Vienna", "America/St_Johns", "Australia/Lord_Howe", "UTC", "Asia/Kathmandu"]),
)
@settings(max_examples=30, deadline=None)
def test_every_day_comes_once_in_every_zone(hour: int, minute: int, zone: str) -> None:
    begin = datetime(2026, 3, 20, 0, 1, tzinfo=ZoneInfo(zone))
    found = _times(f"{minute} {hour} * * *", zone, begin, datetime(2026, 4, 10, 0, 1, tzinfo=ZoneInfo(zone)), 1800)
    days = [each[:10] for each in found]
    assert len(days) == len(set(days))
    assert 20 <= len(days) <= 21


@pytest.mark.parametrize(("missed", "count"), [("once", 1), ("skip", 0)])
def test_times_that_were_missed_are_caught_up_once_or_skipped(missed: str, count: int, house: Callable[..., App]) -> None:
    clock = StillClock(int(datetime(2026, 11, 2, 6, tzinfo=UTC).timestamp() * 1000))
    app = house(clock=clock)
    flow, said = _put(app, "schedule", f", at: {{time: '07:00'}}, missed: {missed}")
    _agreed(app, flow, said)
    app.watching.look(flow, said)
    clock.at += 5 * 86_400_000 + 2 * 3_600_000
    _restarted(app)
    assert app.watching.look(flow, said).count == count
    assert app.watching.look(flow, said).count == 0
    if count:
        assert _data(app) == [{"at": "2026-11-07T07:00+00:00", "missed": 5}]
    clock.at += 86_400_000
    app.watching.look(flow, said)
    assert len(_items(app)) == count + (1 if missed == "once" else 0)


def _agreed(app: App, flow: Flow, said: Said) -> None:
    app.watching.agree(flow, said)


def test_for_each_row_there_is_an_item_each_time_and_a_kill_in_between_doubles_none(house: Callable[..., App]) -> None:
    clock = StillClock(int(datetime(2026, 11, 2, 6, tzinfo=UTC).timestamp() * 1000))
    app = house(clock=clock)
    place = Sheet()
    place.begin(app)
    for number in range(3):
        place.add(number, datetime.now(UTC))
    flow, said = _put(app, "schedule", ", cron: '0 7 * * *', rows: {path: sites.csv, key: [Site], which: all}")
    _agreed(app, flow, said)
    app.watching.look(flow, said)
    clock.at += 2 * 3_600_000
    with app.watching._lock:
        app.watching._open.clear()
    stopped = iter([False, False, True, True, True])
    assert app.watching.look(flow, said, lambda: next(stopped)).count == 2, "it was broken off behind the second row"
    _restarted(app)
    app.watching.look(flow, said)
    assert [each["Site"] for each in _data(app)] == ["site 0", "site 1", "site 2"]
    clock.at += 86_400_000
    app.watching.look(flow, said)
    assert len(_items(app)) == 6


@pytest.mark.parametrize(
    "said",
    [
        "cron: '61 * * * *'",
        "cron: '* * * * * *'",
        "cron: nonsense",
        "cron: '0 7 * * *', at: {time: '07:00'}",
        "at: {time: '25:00'}",
        "missed: once",
        "cron: '@daily'",
    ],
)
def test_what_is_no_schedule_is_refused_in_words(said: str, house: Callable[..., App]) -> None:
    with pytest.raises(BadFlow, match=r"cron|time|Say when|pattern"):
        _put(house(), "schedule", f", {said}")


def test_the_next_five_times_are_told(house: Callable[..., App]) -> None:
    app = house()
    flow, said = _put(app, "schedule", ", at: {time: '07:30', on: weekday}")
    assert app.watching.test(flow, said).count("07:30") == 5


def test_a_sheet_of_which_a_row_could_not_be_kept_is_looked_at_again_though_it_did_not_change(
    house: Callable[..., App], monkeypatch: pytest.MonkeyPatch
) -> None:
    app = house()
    place = Sheet()
    place.begin(app)
    flow, said = _put(app, "rows", place.said)
    for number in range(3):
        place.add(number, datetime(2026, 3, 1, tzinfo=UTC))
    sent = app.taking.sent

    def full(*given: Any, **more: Any) -> Any:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(app.taking, "sent", full)
    with suppress(OSError):
        assert app.watching.look(flow, said).count == 0
    monkeypatch.setattr(app.taking, "sent", sent)
    _taken(app, flow, said, 3)
