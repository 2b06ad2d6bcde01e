"""How long things are kept, each by a setting of its own; and forgetting: everything about an item, or about all items that hold a value, with proof."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import msgspec
from sqlalchemy import Connection

from metrikon.core.documents.model import Document, from_bytes
from metrikon.core.values.text import fold
from metrikon.engine.refusing import NotNow, NotThere
from metrikon.engine.states import States
from metrikon.engine.workshop import EngineWorkshop
from metrikon.ports.clock import Clock
from metrikon.ports.reader import Refused
from metrikon.ports.step import ReaderDied
from metrikon.store import calls, keeping, samples
from metrikon.store.database import Database
from metrikon.store.files import DiskFiles

DAY = 86_400_000  # milliseconds
AT_ONCE = 200  # runs in one commit
JUST_NOW = 3600  # seconds: a file that was put here since may be about to come in again
SHORTEST = 3  # letters of a value that is to be forgotten


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


@dataclass
class Proof:
    """What was removed of which items, what stands elsewhere, and where it was found when it was looked for again afterwards."""

    items: list[str]
    removed: dict[str, int] = field(default_factory=dict)
    files: list[dict[str, Any]] = field(default_factory=list)  # sha256, bytes
    elsewhere: list[dict[str, Any]] = field(default_factory=list)  # destination, place
    also_in: list[str] = field(default_factory=list)  # in words: lists, flows that hold the value
    found_again: list[str] = field(default_factory=list)


class Keeping:
    """Removes what is kept no longer."""

    def __init__(self, database: Database, workshop: EngineWorkshop, files: DiskFiles, clock: Clock, states: States, days: Days, most: int) -> None:
        self._database, self._workshop, self._files, self._clock, self._states = database, workshop, files, clock, states
        self.days, self._most = days, most

    # ---- by age

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
        self._remove(files)
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

    def _remove(self, files: Iterable[str]) -> list[dict[str, Any]]:
        """Files removed, with the files that stood within them."""
        gone = []
        for sha256 in files:
            for inner in self._inside(sha256):
                gone.append({"sha256": inner, "bytes": self._files.remove(inner)})
            gone.append({"sha256": sha256, "bytes": self._files.remove(sha256)})
        return gone

    def _inside(self, sha256: str) -> list[str]:
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

    # ---- on request

    def holding(self, value: str) -> list[str]:
        """Items in whose name, file, records or results a value stands. Raises `NotNow` for a value that is too short to look for."""
        if len(value.strip()) < SHORTEST:
            raise NotNow(f"A value of less than {SHORTEST} letters stands nearly everywhere; give a longer one.")
        with self._database.reading() as connection:
            found = keeping.items_with(connection, value.strip())
            every = keeping.all_items(connection)
        wanted = fold(value.strip())
        found |= {item_id for item_id, sha256 in every if item_id not in found and wanted in self._text(sha256)}
        return sorted(found)

    def _text(self, sha256: str) -> str:
        """The words of a kept file, folded; nothing where it cannot be read."""
        try:
            document = self._workshop.read_document(sha256)
        except (Refused, ReaderDied, KeyError, OSError):
            return ""
        return fold(" ".join(word.text for page in document.pages for word in page.words))

    def forget(self, item_ids: Collection[str], by: str, value: str = "") -> tuple[str, Proof]:
        """Remove everything about items, for good; the id of the proof, and the proof. Raises `NotThere`, and `NotNow` while a run goes on."""
        with self._database.reading() as connection:
            there = dict(keeping.all_items(connection))
            going = keeping.unsettled_of(connection, item_ids)
            elsewhere = keeping.rows_of(connection, item_ids)
        missing = [each for each in item_ids if each not in there]
        if missing:
            raise NotThere(f"There is no item {missing[0]}, or it is forgotten already.")
        if going:
            raise NotNow(f"The item {going[0]} has a run that has not settled. Cancel it first.")
        proof = Proof(sorted(item_ids), elsewhere=elsewhere, also_in=self._also_in(value) if value else [])
        for item_id in proof.items:
            self._forget_item(item_id, there, proof)
        if value:
            proof.removed["events"] = self._database.write(lambda connection: keeping.forget_events(connection, value))
        self._database.settle()
        proof.found_again = self._found_again(value, [each["sha256"] for each in proof.files])
        id_, now = self._clock.new_id(), self._clock.now()
        self._database.write(lambda connection: keeping.note(connection, id_, now, by, msgspec.to_builtins(proof)))
        return id_, proof

    def _forget_item(self, item_id: str, there: dict[str, str], proof: Proof) -> None:
        with self._database.reading() as connection:
            run_ids = keeping.runs_with_results(connection, [item_id])
            packed = keeping.packed_in(connection, run_ids)
        sha256 = there.pop(item_id)
        gone = self._database.write(lambda connection: keeping.forget_item(connection, item_id, self._clock.now()))
        for what, count in gone.items():
            proof.removed[what] = proof.removed.get(what, 0) + count
        for run_id in run_ids:
            self._states.take(run_id)
        files = [*packed, *([sha256] if sha256 not in there.values() else [])]
        proof.files += [each for each in self._remove(files) if each["bytes"]]

    def _also_in(self, value: str) -> list[str]:
        """Where a value stands that is kept for other reasons, and is not removed."""
        found = [f"the list {name}" for name in self._workshop.lists.names() if value in (self._workshop.lists.text(name) or "")]
        return [*found, *(f"the text of the flow {name}" for name, text in self._workshop.catalog.texts() if value in text)]

    def _found_again(self, value: str, hashes: list[str]) -> list[str]:
        """Places where the value, or one of the files, is still found in the folder of the service: none, when all went well."""
        wanted = [each.encode() for each in (value,) if each]
        found = [f"{place.relative_to(self._files.root)}" for place in self._places() if any(_holds(place, each) for each in wanted)]
        return [*found, *(f"files/{each}" for each in hashes if self._files.path(each).exists())]

    def _places(self) -> list[Path]:
        root = self._files.root
        kept = [self._database.path, *(self._database.path.parent.glob(f"{self._database.path.name}-wal"))]
        return [*kept, *(each for part in ("files", "derived") for each in (root / part).rglob("*") if each.is_file())]


def _holds(place: Path, wanted: bytes, step: int = 4_000_000) -> bool:
    """Whether a file holds some bytes; it is read piece by piece."""
    before = b""
    try:
        with place.open("rb") as source:
            while piece := source.read(step):
                if wanted in before + piece:
                    return True
                before = piece[-len(wanted) :]
    except OSError:
        return False
    return False
