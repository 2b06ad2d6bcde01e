"""What strangers have made ends no service: sheets that rows are taken from or written to and templates are opened in processes of their own."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import pytest

from metrikon.app.assemble import App
from metrikon.destinations.files import LocalFile
from metrikon.destinations.ods import OdsSheet
from metrikon.destinations.ods import work as ods
from metrikon.destinations.sheet_apart import ApartSheet
from metrikon.drivers.reading import SET_ASIDE, ReaderPool
from metrikon.intakes.rows import Rows, RowSource
from metrikon.ports.deaths import KILLS
from metrikon.ports.destination import Row, Unusable
from metrikon.ports.intake import Here, IntakeFailed
from metrikon.ports.reader import Limits, Refused
from metrikon.ports.step import ReaderDied
from metrikon.store.deaths import KEPT, KeptDeaths
from tests.helpers import eventually, run_state
from tests.odd_files import repeated, word


def ends(request: Mapping[str, Any]) -> bytes:
    """A work that ends its process, as a library does that stumbles."""
    os._exit(3)


def pid(request: Mapping[str, Any]) -> bytes:
    return str(os.getpid()).encode()


@pytest.fixture
def pool() -> Any:
    made = ReaderPool(1, Limits(seconds=20))
    yield made
    made.close()


def test_a_sheet_whose_repeated_cells_are_more_than_memory_is_told_where_rows_are_taken_and_written(tmp_path: Path, pool: ReaderPool) -> None:
    path = tmp_path / "bomb.ods"
    path.write_bytes(repeated([1_000_000], 1000))
    assert path.stat().st_size < 700
    with pytest.raises(IntakeFailed, match=r"1,000,000 rows and 1,000 columns"):
        RowSource(Rows(path="bomb.ods"), Here(tmp_path, 10**7, apart=pool)).test()
    sheet = ApartSheet(LocalFile(path), pool, ods, OdsSheet(path="bomb.ods"))
    with pytest.raises(Unusable, match=r"1,000,000 rows and 1,000 columns"):
        sheet.write([Row("k", {"Name": "Arnica"})])
    with pytest.raises(Unusable, match=r"1,000,000 rows"):
        sheet.heads()


def test_what_opens_a_file_of_a_stranger_is_another_process(pool: ReaderPool) -> None:
    assert int(pool.do(pid, {})) != os.getpid()


def test_a_file_that_ends_its_process_three_times_is_set_aside_whatever_brings_it(tmp_path: Path, pool: ReaderPool) -> None:
    one, other = tmp_path / "one.ods", tmp_path / "other.ods"
    one.write_bytes(b"deadly")
    other.write_bytes(b"deadly")
    for path in (one, other, one):
        with pytest.raises(ReaderDied):
            pool.do(ends, {}, path, path.name)
    with pytest.raises(Refused, match=f"{KILLS} times and is set aside") as told:
        pool.do(pid, {}, other, other.name)
    assert told.value.code == SET_ASIDE
    other.write_bytes(b"harmless")
    assert pool.do(pid, {}, other, other.name)


def test_what_is_set_aside_stays_so_after_a_start_for_a_week(house: Callable[..., App]) -> None:
    app = house()
    kept = KeptDeaths(app.database, app.clock)
    for _ in range(KILLS):
        kept.note("a" * 64, "one.ods")
    assert KeptDeaths(app.database, app.clock).count("a" * 64) == KILLS
    assert KeptDeaths(app.database, app.clock).set_aside(KILLS) == [("one.ods", "a" * 64)]

    class Later:
        def now(self) -> int:
            return int(app.clock.now()) + KEPT + 1

    assert not KeptDeaths(app.database, Later()).any()  # type: ignore[arg-type]


def test_a_template_of_a_million_empty_paragraphs_is_told_and_holds_nobody_up(house: Callable[..., App]) -> None:
    app = house()
    (app.home / "report.docx").write_bytes(word("<w:p/>" * 1_000_000))
    app.catalog.put_flow(
        "metrikon: 1\nname: report\nintakes: [{kind: upload}]\nsteps:\n- {name: made, compose: {template: report.docx, name: a.docx, values: {a: 1}}}".replace(
            "draft", "compose"
        )
    )
    app.engine.start()
    begun = time.monotonic()
    run = str(app.arrivals.take("report", "upload", "1", "go.bin", b"go").run_id)
    eventually(lambda: run_state(app, run)[0] == "parked", 30)
    assert "more than 200,000 elements" in str(run_state(app, run))
    assert time.monotonic() - begun < 30
