"""The first row of a destination is looked at by a person before any is written, where a flow says so; then all that wait go on."""

from __future__ import annotations

import csv
import time
from collections.abc import Callable, Iterator
from io import StringIO
from pathlib import Path

import pytest

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.cli import main
from tests.helpers import Running, at_rest, eventually, run_state, states

FLOW = """metrikon: 1
name: ledger
intakes: [{kind: upload}]
destinations:
  list: {kind: csv, path: list.csv}
steps:
- {name: row, write: {to: list, key: ["${item.name}"], columns: {Name: "${item.name}", Note: n}, show_first: true}}
"""


@pytest.fixture
def app(tmp_path: Path) -> Iterator[App]:
    made = App(Settings(home=tmp_path / "home"))
    made.start()
    made.catalog.put_flow(FLOW)
    yield made
    made.close()


def _take(app: App, *names: str) -> list[str]:
    return [str(app.arrivals.take("ledger", "upload", name, name, name.encode()).run_id) for name in names]


def _written(app: App) -> list[str]:
    path = app.home / "list.csv"
    if not path.exists():
        return []
    with path.open(newline="", encoding="utf-8-sig") as source:
        return sorted(row["Name"] for row in csv.DictReader(source))


def _parked(app: App, runs: list[str]) -> None:
    eventually(lambda: all(run_state(app, each)[0] == "parked" for each in runs))


def test_nothing_is_written_before_a_person_has_looked_and_then_all_that_wait_go_on(app: App) -> None:
    runs = _take(app, "a", "b", "c")
    _parked(app, runs)
    told = sorted(run_state(app, each)[1].partition(" the first row that this version of the flow writes to list")[0] for each in runs)
    assert told == ["It waits behind", "It waits behind", "This is"]
    app.answers.continue_parked("ada")  # that is no look at it
    time.sleep(0.5)
    _parked(app, runs)
    assert _written(app) == []
    app.answers.continue_run(runs[1], "ada", looked=True)
    at_rest(app, 3)
    assert (states(app), _written(app)) == ({"done": 3}, ["a", "b", "c"])
    _take(app, "d")
    at_rest(app, 4)
    assert _written(app) == ["a", "b", "c", "d"]


def test_a_new_version_of_the_flow_shows_its_first_row_again(app: App) -> None:
    [first] = _take(app, "a")
    _parked(app, [first])
    app.answers.continue_run(first, "ada", looked=True)
    at_rest(app, 1)
    app.catalog.put_flow(FLOW.replace("Note:", "Remark:"))
    [second] = _take(app, "b")
    _parked(app, [second])
    assert _written(app) == ["a"]


def test_a_row_whose_flow_was_wrong_is_run_again_on_the_corrected_one(app: App) -> None:
    [run] = _take(app, "a")
    _parked(app, [run])
    app.catalog.put_flow(FLOW.replace("Note:", "Remark:"))
    with app.database.reading() as connection:
        item = str(connection.exec_driver_sql("SELECT item_id FROM runs").scalar_one())
    again = app.again.item(item, "ada")
    _parked(app, [again])
    assert run_state(app, run)[0] == "stopped"
    app.answers.continue_run(again, "ada", looked=True)
    eventually(lambda: run_state(app, again)[0] == "done")
    assert (app.home / "list.csv").read_text(encoding="utf-8-sig").splitlines()[0] == "Name,Remark,delivery_key"


def test_what_waits_to_be_looked_at_outlives_a_restart(tmp_path: Path, app: App) -> None:
    [run] = _take(app, "a")
    _parked(app, [run])
    app.close()
    again = App(Settings(home=tmp_path / "home"))
    again.start()
    try:
        time.sleep(0.5)
        assert run_state(again, run)[0] == "parked"
        assert _written(again) == []
        again.answers.continue_run(run, "ada", looked=True)
        at_rest(again, 1)
        assert _written(again) == ["a"]
    finally:
        again.close()


def test_by_command_one_run_is_looked_at_and_all_parked_runs_are_not(running: Callable[..., Running]) -> None:
    service = running()
    service.app.catalog.put_flow(FLOW)
    runs = _take(service.app, "a", "b")
    _parked(service.app, runs)

    def command(*words: str) -> tuple[int, str]:
        out, err = StringIO(), StringIO()
        code = main(["runs", "continue", *words, "--url", service.url, "--token", service.token], out, err)
        return code, out.getvalue() + err.getvalue()

    code, told = command("--parked", "--looked")
    assert (code, "Say of one run" in told) == (2, True)
    code, told = command(runs[1], "--looked")
    assert (code, told) == (0, "1 run continued.\n")
    at_rest(service.app, 2)
    assert _written(service.app) == ["a", "b"]
