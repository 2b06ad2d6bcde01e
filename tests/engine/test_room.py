"""A disk that runs full: nothing more is taken in, what is under way waits and says so, and all goes on by itself when there is room."""

from __future__ import annotations

import subprocess
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import httpx
import pytest

from metrikon.app.assemble import App
from metrikon.client import ServiceError
from metrikon.demo import scenario
from metrikon.drivers.worker import blamed
from tests.engine.test_language import HEAD, ROW
from tests.helpers import Running, at_rest, eventually, run_state

PAPER = scenario.document("01-fernhill-nurseries.pdf")
FLOW = (
    HEAD.replace("{kind: upload}", "{kind: upload}, {kind: folder, path: in, settled: 0}")
    + "  - {name: paper, read: {}}\n"
    + ROW.replace("VALUE", "paper.pages")
)


@pytest.fixture
def small(tmp_path: Path) -> Iterator[Path]:
    """A disk of 12 MB, of its own."""
    disk = tmp_path / "small"
    disk.mkdir()
    if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=12m,mode=700", "tmpfs", str(disk)], capture_output=True).returncode != 0:
        pytest.skip("no disk can be mounted here")
    yield disk
    subprocess.run(["umount", "-l", str(disk)], check=True)


def fill(disk: Path, left: int = 0) -> Path:
    """Use up the disk but for some bytes; the file that does it."""
    ballast = disk / "ballast"
    free = int(subprocess.check_output(["df", "--output=avail", "-B1", str(disk)]).split()[1])
    with ballast.open("wb") as out:
        out.write(bytes(max(0, free - left)))
    return ballast


def test_nothing_is_taken_in_while_the_disk_is_nearly_full(running: Callable[..., Running], small: Path) -> None:
    service = running(str(small / "home"), free_mb=2)
    client, app = service.client, service.app
    client.put_flow("garden", FLOW)
    ballast = fill(small, left=1_000_000)
    with pytest.raises(ServiceError, match=r"nearly full: \d MB are free, and 2 MB are kept .* Nothing is taken in") as told:
        client.upload("garden", PAPER, name="paper.pdf")
    assert told.value.status == 507
    waiting = app.home / "in" / "left.pdf"
    waiting.parent.mkdir(exist_ok=True)
    waiting.write_bytes(PAPER)
    assert httpx.get(f"{service.url}/ready").status_code == 503
    assert any("nearly full" in each for each in client.today()["problems"])
    assert not list(client.items())
    ballast.unlink()
    eventually(lambda: [each.name for each in client.items()] == ["left.pdf"])
    at_rest(app, 1)
    assert httpx.get(f"{service.url}/ready").status_code == 200
    assert client.today()["problems"] == []


def test_a_file_whose_document_finds_no_room_is_not_damaged_but_waits(house: Callable[..., App], tmp_path: Path, small: Path) -> None:
    app = house()
    (app.home / "derived").rmdir()
    (app.home / "derived").symlink_to(small)
    app.catalog.put_flow(FLOW)
    ballast = fill(small)
    app.start()
    run = app.arrivals.take("garden", "upload", None, "paper.pdf", PAPER).run_id
    eventually(lambda: run_state(app, run) == ("waiting", "The disk is full. It goes on by itself when that is over."))
    assert not list(small.rglob(".new-*")), "nothing is left half written"
    ballast.unlink()
    eventually(lambda: run_state(app, run)[0] == "done", 30)


def test_a_service_that_starts_on_a_full_disk_begins_to_work_when_there_is_room(house: Callable[..., App], small: Path) -> None:
    app = house(str(small / "home"), free_mb=0)
    app.catalog.put_flow(FLOW)
    run = app.arrivals.take("garden", "upload", None, "paper.pdf", PAPER).run_id
    ballast = fill(small)
    app.start()
    time.sleep(0.3)
    assert run_state(app, run)[0] == "ready"
    ballast.unlink()
    eventually(lambda: run_state(app, run)[0] == "done")


def test_a_disk_that_is_wholly_full_loses_nothing(running: Callable[..., Running], small: Path) -> None:
    service = running(str(small / "home"), free_mb=0)
    client, app = service.client, service.app
    client.put_flow("garden", FLOW)
    ballast = fill(small, left=400_000)
    sent, told = [], []
    for number in range(60):
        try:
            sent.append(client.upload("garden", PAPER + b"%" * 20_000 + str(number).encode(), name=f"{number}.pdf").run_id)
        except ServiceError as error:
            told.append(error.status)
    assert set(told) == {507}
    ballast.unlink()
    eventually(lambda: all(run_state(app, run)[0] == "done" for run in sent), 60)


@pytest.mark.parametrize(
    ("error", "said"), [(OSError(28, "No space left on device"), "The disk is full"), (OSError(12, "Cannot allocate"), "Memory is short")]
)
def test_what_the_machine_is_short_of_is_no_fault_of_the_file(error: Exception, said: str) -> None:
    wrapped = ValueError("a library stumbled")
    wrapped.__cause__ = error
    assert blamed("keep", wrapped) == {"code": "machine-short", "reason": said}
