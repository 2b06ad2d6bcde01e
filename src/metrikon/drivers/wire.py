"""Answers and readings as they go between the service and its worker processes."""

from __future__ import annotations

import dataclasses
from typing import Any

import msgspec

from metrikon.core.extraction.asking import Ask, Asking, Given, Stage
from metrikon.core.extraction.settle import Reading
from metrikon.core.records import evidence, findings
from metrikon.core.values.exact import dumps, loads


def sent(asking: Asking) -> dict[str, Any]:
    """How questions are put, as plain data."""
    return dataclasses.asdict(asking)


def asking_from(data: dict[str, Any]) -> Asking:
    """How questions are put, as it was sent."""
    return Asking(str(data["today"]), str(data["context"]), int(data["room"]), int(data["repairs"]))


def given_from(data: bytes) -> Given:
    """An answer that was sent."""
    return msgspec.json.decode(data, type=Given)


def all_given(data: Any) -> list[Given]:
    """Answers out of a request, in which numbers with a fraction came as `Decimal`."""
    return msgspec.json.decode(dumps(data), type=list[Given])


def reading_bytes(reading: Reading) -> bytes:
    """A reading as JSON."""
    return dumps(
        {
            "record": reading.record,
            "evidence": reading.evidence,
            "findings": reading.findings,
            "changes": reading.changes,
            "notes": reading.notes,
            "stages": reading.stages,
            "next": reading.next,
        }
    )


def reading_from(data: bytes) -> Reading:
    """The reading that was sent."""
    given = loads(data)
    return Reading(
        given["record"],
        evidence.from_json(given["evidence"]),
        findings.from_json(given["findings"]),
        tuple(given["changes"]),
        findings.from_json(given["notes"]),
        msgspec.convert(given["stages"], tuple[Stage, ...]),
        msgspec.convert(given["next"], tuple[Ask, ...]),
    )
