"""The demo's documents read with a model that misbehaves in every way it knows, some of the time."""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from metrikon.core.extraction.indexing.index import Index, squeezed
from metrikon.core.records.checks import doubtful, doubts
from metrikon.core.records.findings import stops
from metrikon.core.records.pointers import leaves
from metrikon.core.records.types import RecordType
from metrikon.demo import scenario
from metrikon.drivers.extract import Extracted, extract
from metrikon.drivers.paper import LocalPaper
from metrikon.models.chat import ChatModel, ChatSettings
from metrikon.ports.model import ModelDown
from metrikon.ports.reader import Refused
from metrikon.readers.registry import read
from metrikon.sandbox.model_server import KINDS, ModelServer

LEAST = Decimal("0.6")  # the confidence below which a person must look, as flows have it when they say nothing
TRIES = 4  # of a step, as flows have it when they say nothing


@dataclass(frozen=True)
class Outcome:
    """One document read once: whether it would be written unattended, and what is wrong in it then."""

    name: str
    unattended: bool
    wrong: tuple[str, ...]
    clean: bool  # a digital document with nothing wrong in it


def unattended(kind: RecordType, found: Extracted) -> bool:
    """Whether nothing keeps a record from being written without a person."""
    reading = found.reading
    return not stops(reading.findings) and not doubtful(kind, reading.record, doubts(kind, reading.evidence), LEAST, set())


def wrong_values(right: dict[str, Any], got: dict[str, Any]) -> tuple[str, ...]:
    """Values that are there and not right."""
    wanted = dict(leaves(right))
    return tuple(pointer for pointer, value in leaves(got) if pointer not in wanted or not _same(wanted[pointer], value))


def _same(one: Any, two: Any) -> bool:
    return one == two or squeezed(str(one)) == squeezed(str(two))


def outcomes(kind: RecordType, rounds: int, rate: float, seed: int) -> Iterator[Outcome]:
    """Every demo document `rounds` times, with all misbehaviours at a rate."""
    server = ModelServer().start()
    server.mood.kinds, server.mood.rate, server.mood.dice = KINDS, rate, random.Random(seed)
    server.mood.hang, server.mood.retry_after = 0.6, 0
    chat = ChatModel(ChatSettings(server.url, "stand-in", timeout=0.3, first_wait=0.01))
    try:
        for each in scenario.expected():
            try:
                index = Index(read(scenario.document(each.name)))
            except Refused:
                continue
            if each.outcome not in ("done", "review"):
                continue
            clean = each.outcome == "done" and index.document.pages[0].source == "text"
            for _ in range(rounds):
                found = _read(chat, kind, index)
                written = found is not None and unattended(kind, found)
                wrong = wrong_values(each.record, found.reading.record) if found is not None and written else ()
                yield Outcome(each.name, written, wrong, clean)
    finally:
        chat.close()
        server.stop()


def _read(chat: ChatModel, kind: RecordType, index: Index) -> Extracted | None:
    for _ in range(TRIES):
        try:
            return extract(chat, kind, LocalPaper(index), "2026-11-23", "We are the Ellerby Botanic Garden; we are never the vendor.")
        except ModelDown:
            continue
    return None
