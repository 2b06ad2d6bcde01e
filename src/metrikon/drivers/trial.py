"""A trial: documents read by a record type and a model, each set against its right record. What was tried is kept and not paid twice."""

from __future__ import annotations

import hashlib
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from metrikon.core.records.findings import stops
from metrikon.core.records.types import RecordType
from metrikon.core.trials.score import Score, score_record
from metrikon.core.trials.tally import Tried
from metrikon.core.values.exact import NotJson, dumps, loads
from metrikon.drivers.extract import extract
from metrikon.ports.model import Model, ModelDown, ModelRefused, OverLimit, Usage
from metrikon.ports.paper import Paper
from metrikon.ports.reader import Refused
from metrikon.ports.step import ReaderDied

FORM = 1  # of what is kept


@dataclass(frozen=True)
class Sample:
    """A document with its right record. `sha256` names its bytes."""

    name: str
    sha256: str
    right: Mapping[str, Any]


@dataclass(frozen=True)
class Way:
    """How documents are read: a record type, a model, what the model is told besides; `price`: what tokens cost."""

    kind: RecordType
    model: Model
    context: str = ""
    second_reading: Model | None = None
    price: Callable[[Usage], str] = field(default=lambda usage: f"{usage.cost:f}")

    @property
    def key(self) -> str:
        """What tells this way from others."""
        return hashlib.sha256(dumps([FORM, self.kind.schema, self.model.name, self.context, bool(self.second_reading)])).hexdigest()[:16]


class Kept:
    """The results of a trial in a folder, one file a document: a trial that was stopped goes on where it was."""

    def __init__(self, folder: Path | None) -> None:
        self.folder = folder

    def get(self, key: str) -> dict[str, Any] | None:
        """A result, if there is one."""
        if self.folder is None:
            return None
        try:
            return dict(loads((self.folder / f"{key}.json").read_bytes()))
        except (OSError, NotJson):
            return None

    def put(self, key: str, result: Mapping[str, Any]) -> None:
        """Keep a result, whole or not at all."""
        if self.folder is not None:
            self.folder.mkdir(parents=True, exist_ok=True)
            aside = self.folder / f".{key}.new"
            aside.write_bytes(dumps(result))
            aside.replace(self.folder / f"{key}.json")


def run_trial(
    samples: Sequence[Sample],
    way: Way,
    paper: Callable[[Sample], Paper],
    today: str,
    kept: Kept | None = None,
    stop: threading.Event | None = None,
) -> Iterator[dict[str, Any]]:
    """The plain data of each document in turn; ends early when it is told to stop. Raises `ModelDown` and `OverLimit`: start it again to go on."""
    keep = kept or Kept(None)
    for sample in samples:
        if stop is not None and stop.is_set():
            return
        key = hashlib.sha256(f"{way.key} {sample.sha256} {dumps(sample.right).decode()}".encode()).hexdigest()[:32]
        result = keep.get(key)
        if result is None:
            result = tried(sample, way, paper, today).as_json()
            keep.put(key, result)
        yield {**result, "name": sample.name}


def tried(sample: Sample, way: Way, paper: Callable[[Sample], Paper], today: str) -> Tried:
    """One document read and scored; one that cannot be read has its whole record missing."""
    start = time.perf_counter()
    try:
        found = extract(way.model, way.kind, paper(sample), today, way.context, second_reading=way.second_reading)
    except (Refused, ReaderDied, ModelRefused) as error:
        problem = error.reason if isinstance(error, Refused) else str(error)
        return Tried(sample.name, score_record(way.kind, sample.right, {}), problem=problem, seconds=time.perf_counter() - start)
    reading = found.reading
    score: Score = score_record(way.kind, sample.right, reading.record)
    sure = {pointer: each.confidence for pointer, each in reading.evidence.items()}
    usage = found.usage
    seconds = usage.seconds or time.perf_counter() - start
    return Tried(sample.name, score, not stops(reading.findings), sure, usage.input_tokens + usage.output_tokens, seconds, way.price(usage))


def samples_in(folder: Path) -> Iterable[tuple[Path, Mapping[str, Any]]]:
    """The documents in a folder that have a right record beside them: `bill.pdf` and `bill.pdf.right.json`.

    The right record is the JSON itself, or stands in it under `record`. Raises `NotJson` and `OSError` for one that cannot be read.
    """
    for right in sorted(folder.glob("*.right.json")):
        document = right.with_name(right.name.removesuffix(".right.json"))
        if not document.is_file():
            continue
        said = loads(right.read_bytes())
        record = said.get("record", said) if isinstance(said, Mapping) else None
        if isinstance(record, Mapping):
            yield document, record


__all__ = ["Kept", "ModelDown", "OverLimit", "Sample", "Way", "run_trial", "samples_in", "tried"]
