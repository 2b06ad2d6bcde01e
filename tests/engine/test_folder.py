"""The watched folder: settled files, each taken once, kept or moved."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from metrikon.app import watching
from metrikon.app.assemble import App
from metrikon.core.flows.model import Said
from metrikon.intakes.folder import Folder


class Taken(list[tuple[str, bytes]]):
    def __call__(self, identity: str, name: str, data: bytes) -> Callable[[], None]:
        self.append((name, data))
        return lambda: None


@pytest.fixture
def taken() -> Taken:
    return Taken()


def test_a_file_is_taken_when_it_has_stayed_the_same_long_enough(tmp_path: Path, taken: Taken) -> None:
    folder = Folder(tmp_path, move=False, settled=5, largest=1000)
    (tmp_path / "a.pdf").write_bytes(b"half")
    assert folder.look(0, taken) == 0
    (tmp_path / "a.pdf").write_bytes(b"half and half")
    assert folder.look(4, taken) == 0
    assert folder.look(8, taken) == 0
    assert folder.look(9, taken) == 1
    assert folder.look(99, taken) == 0
    assert taken == [("a.pdf", b"half and half")]
    assert (tmp_path / "a.pdf").exists()


def test_new_content_under_an_old_name_is_taken_anew(tmp_path: Path, taken: Taken) -> None:
    folder = Folder(tmp_path, move=False, settled=0, largest=1000)
    (tmp_path / "a.pdf").write_bytes(b"one")
    folder.look(0, taken)
    (tmp_path / "a.pdf").write_bytes(b"other")
    folder.look(1, taken)
    assert [data for _, data in taken] == [b"one", b"other"]


def test_a_taken_file_is_moved_and_never_overwrites_another(tmp_path: Path, taken: Taken) -> None:
    folder = Folder(tmp_path, move=True, settled=0, largest=1000)
    for content in (b"one", b"two"):
        (tmp_path / "a.pdf").write_bytes(content)
        folder.look(0, taken)
    assert sorted(path.name for path in (tmp_path / "taken").iterdir()) == ["a-2.pdf", "a.pdf"]
    assert not (tmp_path / "a.pdf").exists()


@pytest.mark.parametrize("name", [".hidden.pdf", "~$open.docx", "a.pdf.part", "b.tmp", "c.crdownload"])
def test_unfinished_and_hidden_files_are_left_alone(name: str, tmp_path: Path, taken: Taken) -> None:
    (tmp_path / name).write_bytes(b"x")
    (tmp_path / "folder.pdf").mkdir()
    assert Folder(tmp_path, move=False, settled=0, largest=1000).look(0, taken) == 0


def test_a_link_is_not_followed(tmp_path: Path, taken: Taken) -> None:
    (tmp_path / "secret").write_bytes(b"x")
    (tmp_path / "in").mkdir()
    (tmp_path / "in" / "a.pdf").symlink_to(tmp_path / "secret")
    assert Folder(tmp_path / "in", move=False, settled=0, largest=1000).look(0, taken) == 0


def test_a_file_too_large_is_left_and_told_of(tmp_path: Path, taken: Taken) -> None:
    folder = Folder(tmp_path, move=True, settled=0, largest=10)
    (tmp_path / "a.pdf").write_bytes(b"x" * 11)
    folder.look(0, taken)
    folder.look(1, taken)
    assert taken == []
    assert "max_bytes" in folder.problems["a.pdf"]
    (tmp_path / "a.pdf").unlink()
    folder.look(2, taken)
    assert folder.problems == {}


def test_a_file_that_could_not_be_kept_is_taken_at_the_next_look(tmp_path: Path, taken: Taken) -> None:
    folder = Folder(tmp_path, move=True, settled=0, largest=1000)
    (tmp_path / "a.pdf").write_bytes(b"x")

    def full(identity: str, name: str, data: bytes) -> Callable[[], None]:
        raise OSError(28, "No space left on device")

    assert folder.look(0, full) == 0
    assert "No space left" in folder.problems["a.pdf"]
    assert folder.look(1, taken) == 1
    assert taken == [("a.pdf", b"x")]


def test_problems_are_told_while_a_scan_finds_another_folder(house: Callable[..., App]) -> None:
    app = house()

    class Late:
        @property
        def problems(self) -> dict[str, str]:
            app.watching._looked["flow", Said("folder", None)] = ("another", Folder(app.home, False, 0.5, 100))  # as a scan does in its own thread
            return {"a.pdf": "a.pdf is too large."}

    app.watching._looked["flow", Said("folder", None)] = ("first", Late())  # type: ignore[assignment]
    assert app.watching.problems() == [{"flow": "flow", "folder": "first", "message": "a.pdf is too large."}]


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
