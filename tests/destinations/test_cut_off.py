"""Files on a server (WebDAV) whose sender is killed while it puts them: the server has emptied them before, and no row is lost all the same."""

from __future__ import annotations

import base64
import socket
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from metrikon.app.assemble import App
from metrikon.connections.asides import aside
from metrikon.connections.fetching import Fetched, FetchFailed, Wanted
from metrikon.destinations.files import LocalFile, RemoteFile
from metrikon.destinations.sheets import SheetDestination
from metrikon.ports.destination import Busy, Row
from tests.dav import SECRET, USER, DavServer
from tests.destinations.contract import row
from tests.destinations.test_sheets import FORMATS
from tests.helpers import eventually, run_state

Served = tuple[DavServer, App]
NAMES = ["ledger.csv", "ledger.xlsx", "ledger.ods"]


class Killed(BaseException):
    """The service is gone, in the middle of something."""


class Dying:
    """Calls of a service that is killed at one of them."""

    def __init__(self, served: Served, dies: Callable[[Wanted], bool], share: float | None) -> None:
        self.server, self.app = served
        self.dies, self.share = dies, share  # of the body that is sent until then; None: all of it, and it is answered

    def fetch(self, wanted: Wanted) -> Fetched:
        if not self.dies(wanted):
            return self.app.outside.fetch(wanted)
        if self.share is None:
            self.app.outside.fetch(wanted)
            raise Killed
        body = wanted.body or b""
        told = {**wanted.more, "Authorization": "Basic " + base64.b64encode(f"{USER}:{SECRET}".encode()).decode(), "Content-Length": str(len(body))}
        with socket.create_connection(("127.0.0.1", self.server.port)) as to:
            lines = [f"{wanted.method} /{wanted.url} HTTP/1.1", "Host: x", *(f"{name}: {value}" for name, value in told.items())]
            to.sendall("\r\n".join([*lines, "", ""]).encode() + body[: int(len(body) * self.share)])
        raise Killed


def sheet(served: Served, name: str, calling: Any = None) -> SheetDestination:
    return SheetDestination(RemoteFile(calling or served[1].outside, "files", name), FORMATS[name.rpartition(".")[2]], "Lines")


def puts(name: str) -> Callable[[Wanted], bool]:
    return lambda wanted: wanted.method == "PUT" and wanted.url == name


def notes(path: Path) -> list[str]:
    found = SheetDestination(LocalFile(path), FORMATS[path.suffix[1:]], "Lines")
    return sorted(str(each["Note"]) for each in found.find({}, 99))


def killed(served: Served, name: str, dies: Callable[[Wanted], bool], share: float | None) -> None:
    """Two rows are there, and a service is killed while it adds a third."""
    sheet(served, name).write([row("a", Note="a"), row("b", Note="b")])
    was = (served[0].root / name).read_bytes()
    with pytest.raises(Killed):
        sheet(served, name, Dying(served, dies, share)).write([row("c", Note="c")])
    if share is not None and dies(Wanted(name, 1, method="PUT")):
        path = served[0].root / name
        eventually(lambda: path.read_bytes() != was)
        eventually(lambda: time.time() - path.stat().st_mtime > 0.3)  # the server has noticed that its sender is gone


@pytest.mark.parametrize("share", [0.0, 0.5, 0.95])
@pytest.mark.parametrize("name", NAMES)
def test_a_file_that_is_left_cut_off_is_made_good_and_no_row_is_lost(name: str, share: float, served: Served) -> None:
    killed(served, name, puts(name), share)
    assert [each.result for each in sheet(served, name).write([row("c", Note="c"), row("d", Note="d")])] == ["there already", "written"]
    assert notes(served[0].root / name) == ["a", "b", "c", "d"]
    assert [each.name for each in served[0].root.iterdir()] == [name]


@pytest.mark.parametrize("name", NAMES)
def test_who_only_looks_into_it_sees_it_whole(name: str, served: Served) -> None:
    killed(served, name, puts(name), 0.0)
    assert sorted(str(each["Note"]) for each in sheet(served, name).find({}, 9)) == ["a", "b", "c"]


@pytest.mark.parametrize(
    ("dies", "share", "result"),
    [
        (puts(".ledger.csv.metrikon"), 0.5, "written"),  # before the file itself was touched
        (puts(".ledger.csv.metrikon"), None, "written"),
        (puts("ledger.csv"), None, "there already"),  # it was put, and what was kept beside it is there still
    ],
)
def test_wherever_it_was_killed_each_row_is_there_once(dies: Callable[[Wanted], bool], share: float | None, result: str, served: Served) -> None:
    killed(served, "ledger.csv", dies, share)
    assert sheet(served, "ledger.csv").write([row("c", Note="c")])[0].result == result
    assert notes(served[0].root / "ledger.csv") == ["a", "b", "c"]
    assert [each.name for each in served[0].root.iterdir()] == ["ledger.csv"]


def test_a_file_that_the_server_threw_away_with_what_came_of_the_new_one_is_there_again(served: Served) -> None:
    killed(served, "ledger.csv", puts("ledger.csv"), 0.5)
    (served[0].root / "ledger.csv").unlink()
    assert sheet(served, "ledger.csv").write([row("c", Note="c"), row("d", Note="d")])[0].result == "there already"
    assert notes(served[0].root / "ledger.csv") == ["a", "b", "c", "d"]


def test_nothing_is_written_onto_a_file_that_cannot_be_made_good_now(served: Served) -> None:
    killed(served, "ledger.csv", puts("ledger.csv"), 0.5)
    made, served[0].ails = sheet(served, "ledger.csv"), "full"
    with pytest.raises(Busy, match="was left cut off and cannot be made good now: its server has no room left"):
        made.write([row("d", Note="d")])
    served[0].ails = ""
    assert made.write([row("d", Note="d")])[0].result == "written"
    assert notes(served[0].root / "ledger.csv") == ["a", "b", "c", "d"]


def test_the_first_row_of_a_file_that_is_left_empty_is_made_good(served: Served) -> None:
    with pytest.raises(Killed):
        sheet(served, "ledger.csv", Dying(served, puts("ledger.csv"), 0.0)).write([row("a", Note="a")])
    eventually(lambda: (served[0].root / "ledger.csv").exists())
    assert sheet(served, "ledger.csv").write([row("a", Note="a"), row("b", Note="b")])[1].result == "written"
    assert notes(served[0].root / "ledger.csv") == ["a", "b"]


def test_what_a_person_has_put_there_since_is_left(served: Served) -> None:
    killed(served, "ledger.csv", puts("ledger.csv"), 0.5)
    LocalFile(served[0].root / "ledger.csv").path.unlink()
    SheetDestination(LocalFile(served[0].root / "ledger.csv"), FORMATS["csv"], "Lines").write([row("a", Note="by hand")])
    assert sheet(served, "ledger.csv").write([row("c", Note="c")])[0].result == "written"
    assert notes(served[0].root / "ledger.csv") == ["by hand", "c"]
    assert not (served[0].root / aside("ledger.csv")).exists()


def test_what_others_call_so_is_not_taken_for_ours(served: Served) -> None:
    sheet(served, "ledger.csv").write([row("a", Note="a")])
    (served[0].root / aside("ledger.csv")).write_bytes(b"metrikon aside 123 x\nName\n" + (served[0].root / "ledger.csv").read_bytes() + b"more")
    assert sheet(served, "ledger.csv").write([row("b", Note="b")])[0].result == "written"
    assert notes(served[0].root / "ledger.csv") == ["a", "b"]


def test_a_server_that_takes_nothing_beside_a_file_takes_the_file(served: Served) -> None:
    served[0].hidden = False
    made = sheet(served, "ledger.csv")
    assert [made.write([row(name, Note=name)])[0].result for name in "ab"] == ["written", "written"]
    assert made.write([Row("a", {"Note": "late"}, sets=True)])[0].result == "updated"
    assert notes(served[0].root / "ledger.csv") == ["b", "late"]


FLOW = """
metrikon: 1
name: out
intakes: [{kind: upload}]
steps: [{name: sent, save: {file: "${item.file}", connection: files, to: "papers/a.txt", if_there: IF_THERE}, retry: {attempts: 2, wait: 0.1}}]
"""


@pytest.mark.parametrize("if_there", ["keep", "number"])
def test_a_file_that_was_saved_in_part_is_saved_whole_under_its_own_name(if_there: str, served: Served, monkeypatch: pytest.MonkeyPatch) -> None:
    server, app = served
    app.start()
    app.catalog.put_flow(FLOW.replace("IF_THERE", if_there))
    fetch, count = app.outside.fetch, iter(range(9))

    def cut(wanted: Wanted) -> Fetched:
        found = fetch(wanted)
        if wanted.method == "PUT" and next(count) == 0:
            (server.root / "papers" / "a.txt").write_bytes(b"all the le")
            raise FetchFailed("The cable was pulled.", cause="unreachable", sent=True)
        return found

    monkeypatch.setattr(app.outside, "fetch", cut)
    run = app.arrivals.take("out", "upload", "a", "a.txt", b"all the leaves").run_id
    eventually(lambda: run_state(app, run)[0] == "done")
    assert {each.name: each.read_bytes() for each in (server.root / "papers").iterdir()} == {"a.txt": b"all the leaves"}
