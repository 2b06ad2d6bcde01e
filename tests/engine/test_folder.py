"""The watched folder: settled files, each taken once, kept or moved."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from metrikon.app import watching
from metrikon.app.assemble import App
from metrikon.intakes.folder import Folder
from metrikon.store import intakes, listing
from tests.helpers import eventually

FLOW = """
metrikon: 1
name: letters
intakes: [{kind: folder, path: in, settled: 0, after: %s}]
steps: [{name: made, set: {name: "${item.name}"}}]
"""


class Looking:
    """Looks at a folder as the service does, without it."""

    def __init__(self, path: Path, *, move: bool = False, settled: float = 0, largest: int = 1000) -> None:
        self.folder = Folder(path, move=move, settled=settled, largest=largest)
        self.taken: list[tuple[str, bytes]] = []

    def look(self, seconds: float) -> int:
        before = len(self.taken)
        for thing in self.folder.new(None, int(seconds * 1000)):
            self.taken += [(each.name, each.data) for each in self.folder.get(thing)]
            self.folder.settle(thing, taken=True)
        return len(self.taken) - before


def test_a_file_is_taken_when_it_has_stayed_the_same_long_enough(tmp_path: Path) -> None:
    folder = Looking(tmp_path, settled=5)
    (tmp_path / "a.pdf").write_bytes(b"half")
    assert folder.look(0) == 0
    (tmp_path / "a.pdf").write_bytes(b"half and half")
    assert [folder.look(seconds) for seconds in (4, 8, 9, 99)] == [0, 0, 1, 0]
    assert folder.taken == [("a.pdf", b"half and half")]
    assert (tmp_path / "a.pdf").exists()


def test_new_content_under_an_old_name_is_taken_anew(tmp_path: Path) -> None:
    folder = Looking(tmp_path)
    (tmp_path / "a.pdf").write_bytes(b"one")
    folder.look(0)
    (tmp_path / "a.pdf").write_bytes(b"other")
    folder.look(1)
    assert [data for _, data in folder.taken] == [b"one", b"other"]


def test_a_taken_file_is_moved_and_never_overwrites_another(tmp_path: Path) -> None:
    folder = Looking(tmp_path, move=True)
    for content in (b"one", b"two"):
        (tmp_path / "a.pdf").write_bytes(content)
        folder.look(0)
    assert sorted(path.name for path in (tmp_path / "taken").iterdir()) == ["a-2.pdf", "a.pdf"]
    assert not (tmp_path / "a.pdf").exists()


@pytest.mark.parametrize("name", [".hidden.pdf", "~$open.docx", "a.pdf.part", "b.tmp", "c.crdownload"])
def test_unfinished_and_hidden_files_are_left_alone(name: str, tmp_path: Path) -> None:
    (tmp_path / name).write_bytes(b"x")
    (tmp_path / "folder.pdf").mkdir()
    assert Looking(tmp_path).look(0) == 0


def test_a_link_is_not_followed(tmp_path: Path) -> None:
    (tmp_path / "secret").write_bytes(b"x")
    (tmp_path / "in").mkdir()
    (tmp_path / "in" / "a.pdf").symlink_to(tmp_path / "secret")
    assert Looking(tmp_path / "in").look(0) == 0


def test_a_file_too_large_is_let_go_and_told_of(house: Callable[..., App]) -> None:
    app = house(max_bytes=10)
    app.catalog.put_flow(FLOW % "move")
    (app.home / "in").mkdir()
    (app.home / "in" / "a.pdf").write_bytes(b"x" * 11)
    app.watching._look_around()
    eventually(lambda: app.watching._look_around() or _let_go(app))
    app.watching._look_around()
    (row,) = _let_go(app)
    assert row["name"] == "a.pdf"
    assert "max_bytes" in row["why"]
    assert (app.home / "in" / "a.pdf").exists()


def test_a_file_that_could_not_be_kept_is_taken_at_the_next_look(house: Callable[..., App], monkeypatch: pytest.MonkeyPatch) -> None:
    app = house()
    app.catalog.put_flow(FLOW % "move")
    (app.home / "in").mkdir()
    (app.home / "in" / "a.pdf").write_bytes(b"x")

    def full(data: bytes) -> str:
        raise OSError(28, "No space left on device")

    app.watching._look_around()
    eventually(lambda: _agreed(app))
    with monkeypatch.context() as patched:
        patched.setattr(app.files, "put", full)
        assert app.watching._look_around() == 0
    assert app.watching._look_around() == 1
    assert (app.home / "in" / "taken" / "a.pdf").read_bytes() == b"x"


def test_an_equal_file_dropped_again_where_files_are_moved_away_is_a_likely_repeat(house: Callable[..., App]) -> None:
    app = house()
    app.catalog.put_flow(FLOW % "move")
    (app.home / "in").mkdir()
    for number in range(2):
        (app.home / "in" / "a.pdf").write_bytes(b"12 on potting soil")
        os.utime(app.home / "in" / "a.pdf", (number, number))
        eventually(lambda: app.watching._look_around() == 1)
    with app.database.reading() as connection:
        states = [row["state"] for row in listing.run_page(connection).rows]
    assert sorted(states) == ["held", "ready"]


def test_what_is_taken_again_after_a_restart_is_the_same_item(house: Callable[..., App]) -> None:
    app = house()
    app.catalog.put_flow(FLOW % "keep")
    (app.home / "in").mkdir()
    (app.home / "in" / "a.pdf").write_bytes(b"one")
    eventually(lambda: app.watching._look_around() == 1)
    app.watching._open.clear()  # it has forgotten what it has seen
    app.watching._look_around()
    with app.database.reading() as connection:
        assert len(listing.item_page(connection, most=9).rows) == 1


def _let_go(app: App) -> list[dict[str, Any]]:
    with app.database.reading() as connection:
        return intakes.listed_let_go(connection, "letters", "folder", 9)


def _agreed(app: App) -> bool:
    with app.database.reading() as connection:
        row = intakes.get(connection, "letters", "folder")
    return bool(row and row["agreed"])


def test_intakes_are_looked_at_again_at_once_while_something_is_taken(house: Callable[..., App], monkeypatch: pytest.MonkeyPatch) -> None:
    """After a look that found nothing one rests as much longer as it took: here for good."""
    monkeypatch.setattr(watching, "REST", 10**9)
    app = house()
    found, idle = [1, 1, 1, 0, 1], threading.Event()

    def look() -> int:
        if len(found) == 2:
            idle.set()
        return found.pop(0)

    monkeypatch.setattr(app.watching, "_look_around", look)
    app.watching.start()
    assert idle.wait(10)
    time.sleep(0.5)
    app.watching._stop.set()
    assert found == [1]
