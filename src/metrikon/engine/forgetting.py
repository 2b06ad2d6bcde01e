"""Forgetting: everything about an item, or whatever holds a value, for good; and the proof of it, which says what was looked into.

What is looked for goes by hash and by value, over all that is kept: items and what their runs gave, files (those that were only tried among them), what
models were asked and answered, samples, what intakes let go, pages that were fetched; packed or not.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import msgspec

from metrikon.core.values.exact import dumps
from metrikon.core.values.text import fold
from metrikon.engine.keeping import Keeping
from metrikon.engine.refusing import NotNow, NotThere
from metrikon.engine.states import States
from metrikon.engine.workshop import EngineWorkshop
from metrikon.ports.clock import Clock
from metrikon.ports.reader import Refused
from metrikon.ports.step import ReaderDied
from metrikon.store import deaths, held, keeping
from metrikon.store.database import Database
from metrikon.store.files import DiskFiles

SHORTEST = 3  # letters of a value that is to be forgotten
STEP = 4_000_000  # bytes of a file that are looked at at once


@dataclass
class Proof:
    """What was removed of which items, what stands elsewhere, what was looked into, and where it was found when it was looked for again afterwards."""

    items: list[str]
    removed: dict[str, int] = field(default_factory=dict)
    files: list[dict[str, Any]] = field(default_factory=list)  # sha256, bytes
    elsewhere: list[dict[str, Any]] = field(default_factory=list)  # destination, place
    also_in: list[str] = field(default_factory=list)  # in words: lists, flows that hold the value
    searched: dict[str, int] = field(default_factory=dict)  # what was looked into afterwards, and how many of each
    found_again: list[str] = field(default_factory=list)

    def count(self, gone: dict[str, int]) -> None:
        """Add what was removed."""
        for what, count in gone.items():
            self.removed[what] = self.removed.get(what, 0) + count


@dataclass
class Holding:
    """What holds a value: items, and besides them files, calls of models, what was let go (flow, intake, identity), samples (flow, name)."""

    items: list[str] = field(default_factory=list)
    files: set[str] = field(default_factory=set)
    calls: list[str] = field(default_factory=list)
    let_go: list[tuple[str, str, str]] = field(default_factory=list)
    samples: list[tuple[str, str]] = field(default_factory=list)
    searched: dict[str, int] = field(default_factory=dict)

    @property
    def besides(self) -> dict[str, int]:
        """How many of each there are besides items."""
        told = {"files": len(self.files), "calls of models": len(self.calls), "let go": len(self.let_go), "samples": len(self.samples)}
        return {what: count for what, count in told.items() if count}


class Forgetting:
    """Removes on request what nobody is to find any more."""

    def __init__(self, database: Database, workshop: EngineWorkshop, files: DiskFiles, clock: Clock, states: States, kept: Keeping) -> None:
        self._database, self._workshop, self._files, self._clock, self._states, self._kept = database, workshop, files, clock, states, kept

    def holding(self, value: str) -> Holding:
        """Whatever holds a value. Raises `NotNow` for a value that is too short to look for."""
        wanted = value.strip()
        if len(wanted) < SHORTEST:
            raise NotNow(f"A value of less than {SHORTEST} letters stands nearly everywhere; give a longer one.")
        holds = _holds(wanted)
        files = list(self._files.every())
        with self._database.reading() as connection:
            every = keeping.all_items(connection)
        readable = {sha256 for _, sha256 in every}
        with_it = {sha256 for sha256 in files if self._file_holds(sha256, wanted, holds, readable)}
        with_it |= {
            sha256 for sha256 in readable.difference(files) if fold(wanted) in self._text(sha256)
        }  # small ones, that stand in the row of their item
        with self._database.reading() as connection:
            items = keeping.items_with(connection, wanted)
            items |= {item_id for item_id, sha256 in every if sha256 in with_it}
            items |= held.items_naming(connection, with_it)
            asked, calls = held.calls_with(connection, holds)
            left, let_go = held.let_go_with(connection, holds, with_it)
            kept, samples = held.samples_with(connection, holds, with_it)
        known = {item_id for item_id, _ in every}
        return Holding(
            sorted(items & known),
            with_it - {sha256 for item_id, sha256 in every if item_id in items},
            [call for call, _ in asked],
            left,
            kept,
            {"items": len(every), "files": len(files), "calls of models": calls, "let go": let_go, "samples": samples},
        )

    def forget(self, item_ids: Collection[str], by: str, value: str = "") -> tuple[str, Proof]:
        """Remove everything about items, and whatever else holds a value, for good; the id of the proof, and the proof. Raises `NotThere`, and `NotNow` while
        a run goes on."""
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
        used = self._used_by_others(proof.items)
        for item_id in proof.items:
            self._forget_item(item_id, there, used, proof)
        if value:
            self._forget_rest(self.holding(value), value, proof)
        self._database.settle()
        self._look_again(value, [each["sha256"] for each in proof.files], proof)
        id_, now = self._clock.new_id(), self._clock.now()
        self._database.write(lambda connection: keeping.note(connection, id_, now, by, msgspec.to_builtins(proof)))
        return id_, proof

    def _used_by_others(self, item_ids: Collection[str]) -> set[str]:
        """Files that the runs of some items name, and that others hold on to; journals are gone through once, however many items there are."""
        with self._database.reading() as connection:
            run_ids = {run_id for item_id in item_ids for run_id in keeping.runs_of(connection, item_id)}
            return held.in_use(connection, held.files_named(connection, run_ids), run_ids) if run_ids else set()

    def _forget_item(self, item_id: str, there: dict[str, str], used: Collection[str], proof: Proof) -> None:
        with self._database.reading() as connection:
            run_ids = keeping.runs_of(connection, item_id)
            packed = keeping.packed_in(connection, run_ids)
            named = held.files_named(connection, run_ids)
        sha256 = there.pop(item_id)
        own = {*packed, *(named - set(used)), *([sha256] if sha256 not in there.values() else [])}
        try:
            proof.count(self._database.write(lambda connection: keeping.forget_item(connection, item_id, self._clock.now())))
        except keeping.GoesOn as error:
            raise NotNow(str(error)) from error
        for run_id in run_ids:
            self._states.take(run_id)
        self._forget_about(own, proof)

    def _forget_about(self, files: Collection[str], proof: Proof) -> None:
        """Files, what stands in them, and what was asked about them, kept as a sample or let go."""
        hashes = {*files, *(inner for sha256 in files for inner in self._kept.inside(sha256))}
        with self._database.reading() as connection:
            left, _ = held.let_go_with(connection, lambda data: False, hashes)
            kept, _ = held.samples_with(connection, lambda data: False, hashes)
        proof.count(
            self._database.write(
                lambda connection: {
                    "calls of models": held.forget_calls(connection, (), hashes),
                    "let go": held.forget_let_go(connection, left),
                    "samples": held.forget_samples(connection, kept),
                    "fetched pages": held.forget_pages(connection, hashes),
                    "files that ended a process": sum(deaths.forget(connection, each) for each in hashes),
                }
            )
        )
        proof.files += [each for each in self._kept.remove_files(files) if each["bytes"]]

    def _forget_rest(self, found: Holding, value: str, proof: Proof) -> None:
        """What holds a value besides items."""
        self._forget_about(found.files, proof)
        proof.count(
            self._database.write(
                lambda connection: {
                    "calls of models": held.forget_calls(connection, found.calls),
                    "let go": held.forget_let_go(connection, found.let_go),
                    "samples": held.forget_samples(connection, found.samples),
                    "events": keeping.forget_events(connection, value),
                }
            )
        )

    def _also_in(self, value: str) -> list[str]:
        """Where a value stands that is kept for other reasons, and is not removed."""
        found = [f"the list {name}" for name in self._workshop.lists.names() if value in (self._workshop.lists.text(name) or "")]
        return [*found, *(f"the text of the flow {name}" for name, text in self._workshop.catalog.texts() if value in text)]

    def _look_again(self, value: str, hashes: list[str], proof: Proof) -> None:
        """Look for the value and the files once more, in the bytes of the folder and in what is packed: nothing is found when all went well."""
        again = [f"files/{each}" for each in hashes if self._files.path(each).exists()]
        places = list(self._places())
        proof.searched = {"files of the folder, byte by byte": len(places)}
        if value:
            holds = _holds(value.strip())
            again += [f"{place.relative_to(self._files.root)}" for place in places if _place_holds(place, holds, len(dumps(value)))]
            left = self.holding(value)
            proof.searched |= left.searched
            again += [f"the item {each}" for each in left.items]
            again += [f"{what}: {count}" for what, count in left.besides.items()]
        proof.found_again = again

    def _places(self) -> Iterator[Path]:
        root = self._files.root
        yield self._database.path
        yield from self._database.path.parent.glob(f"{self._database.path.name}-wal")
        for part in ("files", "derived"):
            yield from (each for each in (root / part).rglob("*") if each.is_file())

    def _file_holds(self, sha256: str, value: str, holds: Callable[[bytes], bool], readable: Collection[str]) -> bool:
        """Whether a kept file holds a value, in its bytes, or in its words where it is an item's (`readable`) or was read before: results and what steps made are
        no documents."""
        if _place_holds(self._files.path(sha256), holds, len(dumps(value))):
            return True
        is_document = sha256 in readable or bool(self._files.derived_of(sha256))
        return is_document and fold(value) in self._text(sha256)

    def _text(self, sha256: str) -> str:
        """The words of a kept file, folded; nothing where it cannot be read."""
        try:
            document = self._workshop.read_document(sha256)
        except (Refused, ReaderDied, KeyError, OSError):
            return ""
        return fold(" ".join(word.text for page in document.pages for word in page.words))


def _holds(value: str) -> Callable[[bytes], bool]:
    """Whether bytes hold a value: as it is or as JSON has it, in whatever capitals."""
    spelt = (value, value.lower(), value.upper(), value.title())
    forms = {form.lower() for each in spelt for form in (each.encode(), dumps(each)[1:-1])}

    def held_in(data: bytes) -> bool:
        small = data.lower()
        return any(each in small for each in forms)

    return held_in


def _place_holds(place: Path, holds: Callable[[bytes], bool], overlap: int) -> bool:
    """Whether a file holds a value; it is read piece by piece, each with so many bytes of the one before."""
    before = b""
    try:
        with place.open("rb") as source:
            while piece := source.read(STEP):
                if holds(before + piece):
                    return True
                before = piece[-overlap:]
    except OSError:
        return False
    return False
