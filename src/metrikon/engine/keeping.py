"""How long things are kept, each by a setting of its own."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable
from dataclasses import dataclass
from typing import Any

import msgspec
from sqlalchemy import Connection

from metrikon.core.documents.model import Document, from_bytes
from metrikon.engine.states import States
from metrikon.engine.workshop import EngineWorkshop
from metrikon.ports.clock import Clock
from metrikon.store import calls, keeping, samples
from metrikon.store.database import Database
from metrikon.store.files import DiskFiles

DAY = 86_400_000  # milliseconds
AT_ONCE = 200  # runs in one commit
JUST_NOW = 3600  # seconds: a file that was put here since may be about to come in again


@dataclass(frozen=True)
class Days:
    """After how many days something is kept no longer; 0: kept for good."""

    files: int = 0
    results: int = 0
    calls: int = 0
    journals: int = 0


@dataclass(frozen=True)
class Due:
    """What is kept no longer: how many, and their bytes where they are files."""

    what: str
    days: int
    count: int
    bytes: int = 0


class Keeping:
    """Removes what is kept no longer."""

    def __init__(self, database: Database, workshop: EngineWorkshop, files: DiskFiles, clock: Clock, states: States, days: Days, most: int) -> None:
        self._database, self._workshop, self._files, self._clock, self._states = database, workshop, files, clock, states
        self.days, self._most = days, most

    def due(self) -> list[Due]:
        """What would be removed now."""
        with self._database.reading() as connection:
            files, pages = self._old_files(connection)
            results = self._old_runs(connection, self.days.results, keeping.runs_with_results)
            journals = self._old_runs(connection, self.days.journals, keeping.runs_with_journals)
            asked = calls.count_asked(connection, self._before(self.days.calls)) if self.days.calls else 0
        size = sum(self._files.size(sha256) for sha256 in files)
        return [
            Due("files", self.days.files, len(files), size),
            Due("fetched pages", self.days.files, len(pages)),
            Due("results of runs", self.days.results, len(results)),
            Due("journals of runs", self.days.journals, len(journals)),
            Due("calls of models", self.days.calls, asked),
        ]

    def carry_out(self) -> list[Due]:
        """Remove what is kept no longer; what it was."""
        told = self.due()
        with self._database.reading() as connection:
            files, pages = self._old_files(connection)
            results = self._old_runs(connection, self.days.results, keeping.runs_with_results)
            journals = self._old_runs(connection, self.days.journals, keeping.runs_with_journals)
        self.remove_files(files)
        self._database.write(lambda connection: keeping.forget_pages(connection, pages))
        self._forget_runs(results, lambda connection, part: keeping.forget_results(connection, part, self._clock.now()))
        self._forget_runs(journals, keeping.forget_journals)
        if self.days.calls:
            self._database.write(lambda connection: calls.forget(connection, self._before(self.days.calls)))
        return told

    def _before(self, days: int) -> int:
        return self._clock.now() - days * DAY

    def _old_files(self, connection: Connection) -> tuple[list[str], list[str]]:
        """Files that go, and the addresses of fetched pages that do; what samples and candidates hold on to stays."""
        if not self.days.files:
            return [], []
        before = self._before(self.days.files)
        old = dict(keeping.old_items(connection, before))
        pages = keeping.old_pages(connection, before)
        others = keeping.files_of_others(connection, old.keys()) | samples.held(connection, self._most)
        wanted = dict.fromkeys([*old.values(), *(file for _, file in pages)])
        return [each for each in wanted if each not in others and self._files.age(each) > JUST_NOW], [at for at, _ in pages]

    def _old_runs(self, connection: Connection, days: int, which: Callable[[Connection, Collection[str]], list[str]]) -> list[str]:
        if not days:
            return []
        return which(connection, [item_id for item_id, _ in keeping.old_items(connection, self._before(days))])

    def _forget_runs(self, run_ids: list[str], forget: Callable[[Connection, list[str]], Any]) -> None:
        for at in range(0, len(run_ids), AT_ONCE):
            part = run_ids[at : at + AT_ONCE]
            with self._database.reading() as connection:
                packed = keeping.packed_in(connection, part)
            self._database.write(lambda connection, part=part: forget(connection, part))  # type: ignore[misc]
            for sha256 in packed:
                self._files.remove(sha256)
            for run_id in part:
                self._states.take(run_id)

    def remove_files(self, files: Iterable[str]) -> list[dict[str, Any]]:
        """Files removed, with the files that stood within them."""
        gone = []
        for sha256 in files:
            for inner in self.inside(sha256):
                gone.append({"sha256": inner, "bytes": self._files.remove(inner)})
            gone.append({"sha256": sha256, "bytes": self._files.remove(sha256)})
        return gone

    def inside(self, sha256: str) -> list[str]:
        """The files within a file, that were kept each by itself, and that no item is."""
        parts = [part.sha256 for each in self._documents(sha256) for part in each.parts]
        with self._database.reading() as connection:
            others = keeping.files_of_others(connection, ())
        return [each for each in parts if each not in others]

    def _documents(self, sha256: str) -> list[Document]:
        found = []
        for place in self._files.derived_of(sha256):
            if place.name.endswith(".document"):
                try:
                    found.append(from_bytes(place.read_bytes()))
                except (msgspec.MsgspecError, OSError):
                    continue  # cut off by a crash: it goes as it is
        return found
