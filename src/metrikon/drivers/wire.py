"""Answers and readings as they go between the service and its worker processes."""

from __future__ import annotations

import dataclasses
from typing import Any

import msgspec

from metrikon.core.extraction.planning.asking import Asking, Given, Request, Stage
from metrikon.core.extraction.settle import Reading
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding
from metrikon.core.values.exact import dumps, loads


def sent(asking: Asking) -> dict[str, Any]:
    """How questions are put, as plain data."""
    return dataclasses.asdict(asking)


def asking_from(data: dict[str, Any]) -> Asking:
    """How questions are put, as it was sent."""
    return Asking(str(data["today"]), str(data["context"]), int(data["room"]), int(data["repairs"]), bool(data["second"]))


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


class _Sent(msgspec.Struct):
    """A reading on its way: what may hold amounts is left as it is, since those are read exactly."""

    record: msgspec.Raw
    evidence: dict[str, Evidence]
    findings: list[Finding]
    changes: tuple[str, ...]
    notes: list[Finding]
    stages: tuple[Stage, ...]
    next: msgspec.Raw


_SENT = msgspec.json.Decoder(_Sent)


def reading_from(data: bytes) -> Reading:
    """The reading that was sent."""
    sent = _SENT.decode(data)
    following = msgspec.convert(loads(bytes(sent.next)), tuple[Request, ...])
    return Reading(loads(bytes(sent.record)), sent.evidence, sent.findings, sent.changes, sent.notes, sent.stages, following)
