"""Files that a flow has saved: they follow a correction and are taken back, on this machine and on a server; what somebody has changed, or put there, stays."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest

from metrikon.core.flows.connecting import Way
from metrikon.store import deliveries
from tests.dav import SECRET, USER, DavServer
from tests.helpers import Running, eventually

FLOW = """
metrikon: 1
name: filing
intakes: [{kind: upload}]
steps:
  - {name: what, set: {name: "${item.name}"}}
  - {name: kept, save: {file: "${item.file}", to: "papers/${what.name}", if_there: WAY ON}}
"""


@dataclass
class House:
    """A service with a flow that saves files, and the folder in which they then are."""

    service: Running
    papers: Path
    on: str

    def flow(self, if_there: str) -> None:
        self.service.client.put_flow("filing", FLOW.replace("WAY", if_there).replace("ON", self.on))

    def saved(self, name: str, data: bytes) -> str:
        run = self.service.client.upload("filing", data, name=name).run_id
        assert self.service.client.wait(run).state == "done"
        return run

    def put(self, name: str, data: bytes) -> None:
        self.papers.mkdir(parents=True, exist_ok=True)
        (self.papers / name).write_bytes(data)

    @property
    def held(self) -> dict[str, bytes]:
        return {each.name: each.read_bytes() for each in self.papers.iterdir()}

    def back(self, run: str) -> list[Any]:
        """Take a run back; what is told of each thing that it has sent out, in the end."""
        self.service.client.take_back(run, yes=True)
        return self.rest(run)

    def rest(self, run: str) -> list[Any]:
        found = self.service.client.run(run)

        def every() -> list[Any]:
            with self.service.app.database.reading() as connection:
                return deliveries.of_item(connection, found.item_id)

        eventually(lambda: not any(each.state in ("returning", "sending") for each in every()))
        return [(each.state, each.error or "") for each in every()]


@pytest.fixture(params=["here", "server"])
def house(request: pytest.FixtureRequest, running: Callable[..., Running], tmp_path: Path) -> Iterator[House]:
    service = running(fetch_private=True)
    if request.param == "here":
        yield House(service, service.app.home / "papers", "")
        return
    server = DavServer(tmp_path / "dav")
    service.app.connections.put("files", server.url, Way("basic", USER), SECRET, "ada")
    yield House(service, tmp_path / "dav" / "papers", ", connection: files")
    server.end()


def test_a_saved_file_is_listed_and_removed_when_its_run_is_taken_back(house: House) -> None:
    house.flow("keep")
    run = house.saved("a.txt", b"one")
    told = house.service.client.take_back(run)["items"]
    assert [(each["stays"], each["delivery"]["kind"]) for each in told] == [("", "file")]
    assert house.held == {"a.txt": b"one"}, "it was only told"
    assert house.back(run) == [("taken back", "")]
    assert house.held == {}
    again = house.service.client.run_again(house.service.client.run(run).item_id)
    assert house.service.client.wait(again).state == "done"
    assert house.held == {"a.txt": b"one"}, "run again, it is saved again"


def test_a_file_that_was_changed_since_stays_and_that_is_told(house: House) -> None:
    house.flow("keep")
    run = house.saved("a.txt", b"one")
    house.put("a.txt", b"one, and a note by Ada")
    assert house.back(run) == [("written", "It was changed since, and stays.")]
    assert house.held == {"a.txt": b"one, and a note by Ada"}


@pytest.mark.parametrize("house", ["here"], indirect=True)
@pytest.mark.parametrize("what", ["link", "pipe", "folder"])
def test_what_is_no_file_any_more_stays_and_keeps_nothing_else_from_being_taken_back(what: str, house: House) -> None:
    house.flow("keep")
    first, second = house.saved("a.txt", b"one"), house.saved("b.txt", b"two")
    place = house.papers / "a.txt"
    place.unlink()
    if what == "link":
        place.symlink_to(house.papers / "b.txt")
    elif what == "pipe":
        os.mkfifo(place)
    else:
        place.mkdir()
    assert house.back(first) == [("written", "It was changed since, and stays.")]
    assert house.back(second) == [("taken back", "")]
    assert os.path.lexists(place)


def test_a_file_that_was_there_before_is_none_of_ours(house: House) -> None:
    house.flow("keep")
    house.put("a.txt", b"one")
    run = house.saved("a.txt", b"one")
    assert house.service.client.take_back(run)["items"] == []
    assert house.back(run) == [("there", "")]
    assert house.held == {"a.txt": b"one"}


def test_what_a_file_took_the_place_of_stands_there_again(house: House) -> None:
    house.flow("overwrite")
    house.put("a.txt", b"the old list")
    run = house.saved("a.txt", b"the new list")
    assert house.held == {"a.txt": b"the new list"}
    assert house.back(run) == [("taken back", "")]
    assert house.held == {"a.txt": b"the old list"}


def test_a_file_whose_name_is_corrected_is_moved_and_not_saved_beside(house: House) -> None:
    house.flow("keep")
    run = house.saved("a.txt", b"one")
    corrected = house.service.client.run_again_from(run, "kept", {"what.name": "b.txt"})
    assert house.service.client.wait(corrected).state == "done"
    assert sorted(house.rest(corrected)) == [("taken back", ""), ("written", "")]
    assert house.held == {"b.txt": b"one"}
    same = house.service.client.run_again_from(corrected, "kept", {"what.name": "b.txt"})
    assert house.service.client.wait(same).state == "done"
    assert house.held == {"b.txt": b"one"}, "a correction that changes nothing of it leaves it"
    assert ("taken back", "") in house.back(same)
    assert house.held == {}, "and it is the last run that takes it back"


def test_a_correction_that_cannot_be_carried_out_leaves_the_file_where_it_is(house: House) -> None:
    house.flow("keep")
    run = house.saved("a.txt", b"one")
    house.put("b.txt", b"another")
    corrected = house.service.client.run_again_from(run, "kept", {"what.name": "b.txt"})
    found = house.service.client.wait(corrected)
    assert (found.state, "holds something else" in found.reason) == ("parked", True)
    assert house.held == {"a.txt": b"one", "b.txt": b"another"}
    assert house.back(run)[0] == ("taken back", "")
    assert house.held == {"b.txt": b"another"}
