"""Folders of documents with their right records, by whatever hand: each case holds `doc.*`, `schema.json`, `truth.json`, and may hold `meta.json`."""

from __future__ import annotations

import hashlib
import json
import random
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

from metrikon.core.documents.model import Document, from_bytes, to_bytes
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.records.types import RecordType, record_type
from metrikon.core.trials.score import Rules
from metrikon.core.values.exact import loads
from metrikon.readers.registry import read


@dataclass
class Case:
    """One document with its record type and its right record. `kept`: a folder in which documents that were read are kept."""

    folder: Path
    kept: Path | None = None

    @property
    def name(self) -> str:
        return self.folder.name

    @cached_property
    def kind(self) -> str:
        meta = self.folder / "meta.json"
        return str(json.loads(meta.read_text("utf-8")).get("kind", "document")) if meta.exists() else "document"

    @cached_property
    def rules(self) -> Rules | None:
        """What else counts as right, where the case says so."""
        meta = self.folder / "meta.json"
        if not meta.exists():
            return None
        said = json.loads(meta.read_text("utf-8"))
        return Rules(said.get("accept") or {}, frozenset(said.get("loose") or ()), frozenset(said.get("accept_null") or ()))

    @property
    def path(self) -> Path:
        return next(self.folder.glob("doc.*"))

    @cached_property
    def record_type(self) -> RecordType:
        return record_type(json.loads((self.folder / "schema.json").read_text("utf-8")), self.name)

    @cached_property
    def truth(self) -> dict[str, Any]:
        return dict(loads((self.folder / "truth.json").read_bytes()))

    @cached_property
    def document(self) -> Document:
        """The document, read once for all runs where there is a folder to keep it in."""
        data = self.path.read_bytes()
        place = self.kept / f"{hashlib.sha256(data).hexdigest()}.document" if self.kept else None
        if place and place.exists():
            return from_bytes(place.read_bytes())
        found = read(data)
        if place:
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_bytes(to_bytes(found))
        return found

    @cached_property
    def index(self) -> Index:
        return Index(self.document)


def cases(folder: Path, only: str = "", share: float = 1.0, seed: int = 0, kept: Path | None = None, rest: bool = False) -> Iterator[Case]:
    """The cases in a folder by name; a share of them, drawn by the seed, where that is wanted, or the `rest` that was not drawn."""
    found = [Case(each, kept) for each in sorted(folder.iterdir()) if (each / "truth.json").exists() and each.name.startswith(only)]
    if share < 1.0:
        drawn = set(random.Random(seed).sample(range(len(found)), max(1, round(share * len(found)))))
        found = [each for number, each in enumerate(found) if (number in drawn) != rest]
    return iter(found)
