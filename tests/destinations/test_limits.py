"""Limits of a service: it is left alone for as long as it says, and its rows wait meanwhile without being given up."""

from __future__ import annotations

import time
from typing import Any

import pytest

from tests.destinations.house import NOTES, House
from tests.helpers import eventually, states

FLOW = """metrikon: 1
name: tasks
intakes: [{kind: upload}]
destinations:
  crm: {kind: service, connection: crm, records: tasks}
steps:
- {name: made, write: {to: crm, key: ["${item.name}"], columns: {title: "${item.name}"}}, retry: {attempts: 2}}
"""


def _notes(house: House, **more: Any) -> None:
    house.app.describing.note("crm", {**NOTES, **more})


def _sent(house: House, count: int) -> None:
    house.app.start()
    house.app.catalog.put_flow(FLOW)
    for number in range(count):
        house.app.arrivals.take("tasks", "upload", f"t{number}", f"t{number}", b"%d" % number)


def _written(house: House, count: int) -> None:
    eventually(lambda: states(house.app).get("done", 0) + states(house.app).get("parked", 0) == count, 40)
    assert states(house.app) == {"done": count}
    assert len(house.held.tasks) == count


def test_a_service_that_tells_how_many_calls_are_left_is_never_asked_too_often(house: House) -> None:
    _notes(house, rate_headers={"left": "X-RateLimit-Remaining", "again": "X-RateLimit-Reset"})
    house.held.takes, house.held.window = 8, 2.0
    _sent(house, 20)
    _written(house, 20)
    assert house.held.refused == 0


def test_a_service_that_tells_when_it_takes_calls_again_is_asked_then(house: House) -> None:
    _notes(house, rate_headers={"left": "X-Nothing", "again": "X-RateLimit-Reset"})
    house.held.takes, house.held.window = 1, 5.0
    assert house.held.left() == 0  # somebody else used it up
    began = time.monotonic()
    _sent(house, 1)
    _written(house, 1)
    assert house.held.refused == 1, "it was not asked again before"
    assert time.monotonic() - began > 3


def test_rows_wait_as_long_as_the_service_asks_however_few_tries_they_have(house: House) -> None:
    failing = house.services.world.failing
    failing.retry_after = 5
    failing.set("busy", 1.0, 1)
    _sent(house, 3)
    _written(house, 3)


def test_rows_that_are_refused_every_time_are_given_up(house: House) -> None:
    failing = house.services.world.failing
    failing.retry_after = 1
    failing.set("busy", 1.0, -1)
    _sent(house, 1)
    eventually(lambda: states(house.app).get("parked") == 1, 30)


@pytest.mark.parametrize("name", ["X RateLimit", "X-Rate:", ""])
def test_what_is_no_header_is_refused(name: str, house: House) -> None:
    with pytest.raises(ValueError, match="rate_headers/left"):
        _notes(house, rate_headers={"left": name, "again": "X-RateLimit-Reset"})
