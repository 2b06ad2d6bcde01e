"""What a flow sends and takes in again goes round a few times and no more; no intake takes more in an hour than is set, unless somebody has agreed."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx
import pytest

from metrikon.app.assemble import App
from metrikon.core.flows.connecting import Way
from metrikon.engine.circles import DEEPEST, HOUR, Pace
from metrikon.ports.clock import StillClock
from metrikon.ports.intake import IntakeFailed, depth_told
from tests.helpers import Running, eventually

ROUND = """
metrikon: 1
name: round
intakes: [{kind: webhook, sign: none}]
steps:
  - {name: on, post: {connection: self, path: "ADDRESS", payload: {told: "${item.data.told}+"}}}
"""


def test_a_flow_that_posts_to_its_own_address_goes_round_a_few_times_and_is_told(running: Callable[..., Running]) -> None:
    service = running(fetch_private=True)
    app = service.app
    app.connections.put("self", service.url, Way("none"), None, "ada")
    app.catalog.put_flow(ROUND.replace("ADDRESS", "in/none"))
    flow = app.catalog.newest_flow("round")
    address = app.addresses.address(flow, flow.intakes[0])
    app.catalog.put_flow(ROUND.replace("ADDRESS", f"in/{address}"))
    httpx.post(f"{service.url}/in/{address}", json={"told": "hello"}).raise_for_status()

    def rounds() -> int:
        with app.database.reading() as connection:
            return int(connection.exec_driver_sql("SELECT count(*) FROM items").scalar_one())

    def at_rest() -> bool:
        with app.database.reading() as connection:
            open_ones = connection.exec_driver_sql("SELECT count(*) FROM runs WHERE state NOT IN ('done', 'parked')").scalar_one()
        return not open_ones and rounds() > DEEPEST

    eventually(at_rest, 60)
    assert rounds() == DEEPEST + 1
    with app.database.reading() as connection:
        depths = connection.exec_driver_sql("SELECT depth FROM items ORDER BY id").scalars().all()
        why = connection.exec_driver_sql("SELECT why FROM let_go").scalars().all()
    assert list(depths) == list(range(DEEPEST + 1))
    assert "goes round in a circle" in str(why)


def test_an_intake_that_has_taken_as_many_as_may_be_in_an_hour_waits_and_what_was_agreed_to_comes_besides() -> None:
    clock = StillClock()
    pace = Pace(clock, 3)

    def take(intake: str = "post") -> None:
        pace.look("garden", intake)
        pace.took("garden", intake)

    for _ in range(3):
        take()
    with pytest.raises(IntakeFailed, match="3 things within an hour") as told:
        take()
    assert told.value.wait is not None
    assert 0 < told.value.wait <= 3600
    take("another")
    pace.allow("garden", "post", 2)
    take()
    take()
    with pytest.raises(IntakeFailed):
        take()
    clock.at += HOUR + 60_000
    take()


def test_a_sender_is_told_when_there_is_room_again_and_nothing_of_a_folder_is_lost(running: Callable[..., Running]) -> None:
    service = running(fetch_private=True, items_an_hour=2, ask_items=0)
    app = service.app
    folder = app.home / "in"
    folder.mkdir()
    for number in range(5):
        (folder / f"{number}.txt").write_text(f"note {number}")
    app.catalog.put_flow(
        'metrikon: 1\nname: notes\nintakes: [{kind: folder, path: in, settled: 0}, {kind: webhook, sign: none}]\nsteps: [{name: a, set: {b: "1"}}]'
    )

    def taken() -> int:
        with app.database.reading() as connection:
            return int(connection.exec_driver_sql("SELECT count(*) FROM items WHERE intake = 'folder'").scalar_one())

    eventually(lambda: taken() == 2 and any("within an hour" in str(each) for each in _intakes(service)), 30)
    assert len(list(folder.glob("*.txt"))) >= 3, "the others stay where they are"
    flow = app.catalog.newest_flow("notes")
    url = f"{service.url}/in/{app.addresses.address(flow, flow.intakes[1])}"
    answers = [httpx.post(url, json={"n": n}) for n in range(3)]
    assert [each.status_code for each in answers] == [202, 202, 429]
    assert int(answers[-1].headers["Retry-After"]) > 0


def _intakes(service: Running) -> list[Any]:
    with service.app.database.reading() as connection:
        return list(connection.exec_driver_sql("SELECT told FROM intakes").scalars())


def test_a_sheet_that_is_taken_from_and_written_to_is_told_when_the_flow_is_kept(house: Callable[..., App], tmp_path: Path) -> None:
    app = house()
    text = """
metrikon: 1
name: sheet
intakes: [{kind: rows, path: plants.csv}]
destinations: {out: {kind: csv, path: ./plants.csv}}
steps: [{name: row, write: {to: out, key: ["${item.id}"], columns: {Name: "${item.data.Name}"}}}]
"""
    app.catalog.put_flow(text)
    assert any("a row that it adds there starts a run" in each for each in app.beforehand.told(app.catalog.newest_flow("sheet")))
    app.catalog.put_flow(text.replace("./plants.csv", "others.csv"))
    assert not any("starts a run" in each for each in app.beforehand.told(app.catalog.newest_flow("sheet")))


@pytest.mark.parametrize(("told", "depth"), [("3", 3), ("", 0), ("-1", 0), ("٣", 0), ("9" * 40, 0), ("1e3", 0), (" 2", 0)])
def test_a_mark_that_makes_no_sense_counts_as_none(told: str, depth: int) -> None:
    assert depth_told(told) == depth
