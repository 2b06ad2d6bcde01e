"""Rows on their way out: one that is wrong keeps no other, none is sent twice, and no error leaves a destination busy."""

from __future__ import annotations

import re
import threading
import time
from collections.abc import Callable, Sequence
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

import pytest

from metrikon.app.assemble import App
from metrikon.demo import scenario
from metrikon.destinations.memory import MemoryDestination
from metrikon.ports.destination import Broken, Busy, Receipt, Row, Unusable
from metrikon.store import deliveries
from tests.helpers import at_rest, delivered, eventually, run_state, states

FILES = ("01-fernhill-nurseries.pdf", "02-moorgate-seed.pdf", "10-kestrel-seed.pdf")


class Picky(MemoryDestination):
    """Takes no batch with a row of a vendor that it does not like."""

    def __init__(self, not_of: str, error: type[Broken]) -> None:
        super().__init__()
        self.not_of, self.error, self.tries = not_of, error, 0

    def write(self, rows: Sequence[Row]) -> list[Receipt]:
        self.tries += 1
        if any(self.not_of in str(row.values["Vendor"]) and row.values["Line"] == 2 for row in rows):
            raise self.error("That line cannot be taken.")
        return super().write(rows)


def taken(app: App, names: Sequence[str]) -> dict[str, str]:
    return {name: app.arrivals.take(scenario.FLOW, "upload", None, name, scenario.document(name)).run_id for name in names}


@pytest.mark.parametrize("error", [Broken, Unusable])
def test_a_row_that_cannot_be_taken_keeps_no_other_from_being_written(error: type[Broken], house: Callable[..., App]) -> None:
    app = house()
    picky = Picky("Moorgate", error)
    app.deliveries._build = lambda said: picky
    hand_out, gate = app.deliveries._hand_out, threading.Event()
    app.deliveries._hand_out = lambda: hand_out() if gate.is_set() else 0.1  # type: ignore[method-assign]
    runs = taken(app, FILES)
    app.start()
    eventually(lambda: states(app) == {"waiting": len(FILES)})  # all rows go together
    gate.set()
    at_rest(app, len(FILES))
    found = {name: run_state(app, run)[0] for name, run in runs.items()}
    if error is Unusable:  # the destination itself says that it takes none
        assert set(found.values()) == {"parked"}
        assert picky.tries < 10
        return
    assert found == {FILES[0]: "done", FILES[1]: "parked", FILES[2]: "done"}
    rows = delivered(app)
    assert set(rows.values()) - {"there"} == {"written", "failed"}
    assert not any("Moorgate" in str(row["Vendor"]) and row["Line"] == 2 for row in picky.rows.values())
    assert any("Moorgate" in str(row["Vendor"]) for row in picky.rows.values())


class Resting(MemoryDestination):
    """Rests for long after each batch."""

    gather = 20.0


TWO = """
metrikon: 1
name: NAME
intakes: [{kind: upload}]
destinations: {table: {kind: sql, url: "sqlite:///NAME.db", table: rows}}
steps:
  - {name: row, write: {to: table, key: ["${item.id}"], columns: {Name: "${item.name}"}}}
"""


def test_a_destination_that_rests_keeps_no_other_from_its_rows(house: Callable[..., App]) -> None:
    app = house(flow=TWO.replace("NAME", "slow"))
    app.catalog.put_flow(TWO.replace("NAME", "quick"))
    places: dict[str, MemoryDestination] = {"slow.db": Resting(), "quick.db": MemoryDestination()}
    app.deliveries._build = lambda said: next(place for name, place in places.items() if name in said.form.url)
    app.start()
    for number in range(2):
        app.arrivals.take("slow", "upload", str(number), "a.txt", b"%d" % number)
        eventually(lambda: len(places["slow.db"].rows) == 1)
    eventually(lambda: states(app) == {"done": 1, "waiting": 1})
    time.sleep(0.3)  # until it was looked at, and rests
    start = time.monotonic()
    quick = app.arrivals.take("quick", "upload", "1", "b.txt", b"quick").run_id
    eventually(lambda: run_state(app, quick)[0] == "done")
    assert time.monotonic() - start < 5
    assert len(places["slow.db"].rows) == 1, "it rests still"


class Away(MemoryDestination):
    """Takes nothing for now."""

    def write(self, rows: Sequence[Row]) -> list[Receipt]:
        raise Busy("The ledger cannot be reached.", wait=60)


def test_a_row_that_waits_says_why_how_often_and_until_when(house: Callable[..., App]) -> None:
    app = house(flow=TWO.replace("NAME", "slow").replace("intakes:", "zone: Europe/Vienna\nintakes:"))
    app.deliveries._build = lambda said: Away()
    app.start()
    run = app.arrivals.take("slow", "upload", "1", "a.txt", b"a").run_id
    reason = eventually(lambda: next((told for told in [run_state(app, run)[1]] if "reached" in told), None))
    wanted = datetime.fromtimestamp(app.clock.now() / 1000 + 60, ZoneInfo("Europe/Vienna"))
    said = re.fullmatch(r"The ledger cannot be reached\. It has failed once, and is tried again at (\d\d:\d\d:\d\d)\.", reason)
    assert said, reason
    assert abs((wanted - wanted.replace(hour=int(said[1][:2]), minute=int(said[1][3:5]), second=int(said[1][6:]))).total_seconds()) < 20


def test_an_error_while_looking_for_rows_leaves_no_destination_busy(house: Callable[..., App], monkeypatch: pytest.MonkeyPatch) -> None:
    app = house()
    look, errors = deliveries.due, [OSError("the disk"), OSError("the disk")]

    def due(*given: Any) -> list[deliveries.Delivery]:
        if errors:
            raise errors.pop()
        return look(*given)

    monkeypatch.setattr(deliveries, "due", due)
    (run,) = taken(app, FILES[:1]).values()
    app.start()
    eventually(lambda: run_state(app, run)[0] == "done")
    assert errors == []


def test_rows_are_looked_up_when_they_are_sent_so_that_none_is_sent_twice(house: Callable[..., App], monkeypatch: pytest.MonkeyPatch) -> None:
    app = house()
    memory = MemoryDestination()
    app.deliveries._build = lambda said: memory
    handed: list[tuple[Any, ...]] = []
    monkeypatch.setattr(app.deliveries._pool, "submit", lambda *given: handed.append(given))
    (run,) = taken(app, FILES[:1]).values()
    app.start()
    eventually(lambda: handed)
    deliver, destination = handed[0]
    deliver(destination)
    batches = list(memory.batches)
    deliver(destination)  # handed out once more, from what was seen before the first was noted
    assert memory.batches == batches
    assert run_state(app, run)[0] != "parked"
