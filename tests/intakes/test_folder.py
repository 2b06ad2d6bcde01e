"""A watched folder does what every intake must."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from datetime import datetime

import pytest

from metrikon.app.assemble import App
from tests.intakes.contract import IntakeContract, Place


class Files(Place):
    kind, said = "folder", ", path: in, settled: 0"

    def begin(self, app: App) -> None:
        self.folder = app.home / "in"
        self.folder.mkdir()

    def add(self, number: int, at: datetime) -> None:
        path = self.folder / f"{number}.txt"
        path.write_text(f"letter {number}")
        os.utime(path, (at.timestamp(), at.timestamp()))

    def condition(self, number: int) -> str:
        return f'item.name != "{number}.txt"'

    def break_off(self) -> Callable[[], None]:
        shutil.rmtree(self.folder)
        self.folder.write_text("a file where the folder was")

        def mend() -> None:
            self.folder.unlink()
            self.folder.mkdir()

        return mend


class TestFolder(IntakeContract):
    @pytest.fixture
    def place(self) -> Place:
        return Files()
