"""Answers and readings as they go between the service and its worker processes."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from metrikon.core.extraction.index import Place
from metrikon.core.extraction.settle import Reading
from metrikon.core.records import evidence, findings
from metrikon.core.values.exact import dumps, loads
from metrikon.ports.model import ModelAnswer, Usage


def answer_sent(answer: ModelAnswer) -> dict[str, Any]:
    """An answer without what it cost."""
    places = {pointer: [place.page, list(place.words), place.exact] for pointer, place in answer.places.items()}
    return {"text": answer.text, "places": places, "sure": dict(answer.sure), "seconds": answer.usage.seconds}


def answer_bytes(answer: ModelAnswer) -> bytes:
    """An answer as JSON."""
    return dumps(answer_sent(answer))


def answer_from(sent: Mapping[str, Any]) -> ModelAnswer:
    """The answer that was sent; one call."""
    places = {pointer: Place(int(page), tuple(words), bool(exact)) for pointer, (page, words, exact) in sent["places"].items()}
    sure = {pointer: float(value) for pointer, value in sent["sure"].items()}
    return ModelAnswer(str(sent["text"]), Usage(calls=1, seconds=float(sent["seconds"])), places, sure)


def reading_bytes(reading: Reading) -> bytes:
    """A reading as JSON."""
    return dumps(
        {
            "record": reading.record,
            "evidence": reading.evidence,
            "findings": reading.findings,
            "changes": reading.changes,
            "notes": reading.notes,
        }
    )


def reading_from(sent: bytes) -> Reading:
    """The reading that was sent."""
    given = loads(sent)
    return Reading(
        given["record"],
        evidence.from_json(given["evidence"]),
        findings.from_json(given["findings"]),
        tuple(given["changes"]),
        findings.from_json(given["notes"]),
    )
