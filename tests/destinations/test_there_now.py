"""What is there now of a row that may have been written, beside what was sent: so that a person can say whether it was."""

from __future__ import annotations

import json
from typing import Any

import pytest

from metrikon.cli import main
from metrikon.engine.refusing import NotThere
from metrikon.service.auth import add_token
from metrikon.service.serving import Server
from tests.destinations.house import NOTES, House
from tests.helpers import eventually, run_state

FLOW = """metrikon: 1
name: callers
intakes: [{kind: upload}]
destinations:
  crm: {kind: service, connection: crm, records: %s}
steps:
- {name: made, write: {to: crm, key: ["${item.name}"], columns: {email: "${item.name}", phone: "0316 5550134", name: Ada}}}
"""
SEARCHED = {**NOTES["records"]["callers"], "found_within": None}


def parked(house: House, records: str, *, begin: bool = True, **notes: Any) -> str:
    """A run whose row may have been written."""
    house.app.describing.note("crm", {"records": {**NOTES["records"], **notes}})
    if begin:
        house.app.start()
    house.app.catalog.put_flow(FLOW % records)
    house.services.world.failing.set("lost", 1.0, 1)
    run = str(house.app.arrivals.take("callers", "upload", "a", "ada@x.example", b"a").run_id)
    eventually(lambda: run_state(house.app, run)[0] == "parked")
    house.services.world.failing.set("", 0, 0)
    return run


def test_what_is_like_it_now_stands_beside_what_was_sent(house: House) -> None:
    run = parked(house, "callers", callers=SEARCHED)
    [found] = house.app.looking_there.of(run)
    assert (found.to, found.why, found.sent["phone"]) == ("crm", "", "0316 5550134")
    assert [(each["email"], each["phone"]) for each in found.found or ()] == [("ada@x.example", "+433165550134")]
    house.held.contacts.clear()
    assert house.app.looking_there.of(run)[0].found == []
    house.app.answers.continue_run(run, "ada", unsure="again")
    eventually(lambda: run_state(house.app, run)[0] == "done")
    assert house.app.looking_there.of(run) == []


def test_where_nothing_can_be_looked_for_or_nobody_answers_that_is_told(house: House) -> None:
    run = parked(house, "unsearched")
    [found] = house.app.looking_there.of(run)
    assert found.found is None
    assert "Nothing there can be looked for from here" in found.why
    house.app.describing.note("crm", {"records": {"unsearched": SEARCHED}})
    house.services.stop()
    assert "could not be fetched" in house.app.looking_there.of(run)[0].why
    house.services.again(0)
    with pytest.raises(NotThere, match="There is no run"):
        house.app.looking_there.of("0" * 26)


def test_the_command_sets_both_side_by_side(house: House, capsys: pytest.CaptureFixture[str]) -> None:
    server = Server(house.app)
    server.start()
    run = parked(house, "callers", begin=False, callers=SEARCHED)
    to = ["--url", server.url, "--token", add_token(house.app, "tests")[1]]
    assert main(["runs", "there", run, *to]) == 0
    told = capsys.readouterr().out
    assert "To crm: 1 there now is like it." in told
    assert next(line.split() for line in told.splitlines() if line.startswith("phone")) == ["phone", "0316", "5550134", "+433165550134"]
    assert "--went" in told
    assert main(["runs", "there", run, "--json", *to]) == 0
    assert json.loads(capsys.readouterr().out)[0]["found"][0]["name"] == "Ada"
    house.app.answers.continue_run(run, "ada", unsure="went")
    eventually(lambda: run_state(house.app, run)[0] == "done")
    assert main(["runs", "there", run, *to]) == 0
    assert "No row of this run" in capsys.readouterr().out
    server.close()
