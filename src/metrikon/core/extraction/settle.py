"""From an answer to a settled reading: parse → fit → ground → check. Pure; asks nothing."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from metrikon.core.extraction.coerce import Coercion
from metrikon.core.extraction.ground import ground
from metrikon.core.extraction.index import Index, Place
from metrikon.core.extraction.parse import parse_answer
from metrikon.core.records.checks import check_record
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding
from metrikon.core.records.types import RecordType


@dataclass(frozen=True)
class Reading:
    """One record as read: its values, their evidence, what checks found, and what parsing changed."""

    record: dict[str, Any]
    evidence: dict[str, Evidence]
    findings: list[Finding]
    changes: tuple[str, ...] = ()
    notes: list[Finding] = field(default_factory=list)


def settle(
    kind: RecordType, answer: str, index: Index, given: Mapping[str, Place] | None = None, sure: Mapping[str, float] | None = None
) -> Reading:
    """The reading that an answer stands for. Raises `NotUnderstood` when it holds no JSON."""
    parsed = parse_answer(answer)
    coercion = Coercion(kind, index)
    record = coercion.record(parsed.value)
    evidence = ground(kind, record, index, given)
    for pointer, least in (sure or {}).items():
        if pointer in evidence and least < evidence[pointer].sure:
            evidence[pointer] = _less_sure(evidence[pointer], least)
    notes = [Finding("cut off", "stop", "The model's answer was cut off: values or rows may be missing.")] if parsed.cut_off else []
    findings = notes + check_record(kind, record, evidence)
    return Reading(record, evidence, findings, (*parsed.changes, *coercion.changes), notes)


def checked_again(kind: RecordType, record: dict[str, Any], index: Index, before: Mapping[str, Evidence], by_person: set[str]) -> Reading:
    """A record after a person changed some values: evidence is looked for anew only for those."""
    fresh = ground(kind, record, index)
    evidence = {}
    for pointer, each in fresh.items():
        if pointer in by_person:
            evidence[pointer] = Evidence("person", each.page, each.box, each.quote, 1.0)
        else:
            evidence[pointer] = before.get(pointer, each)
    return Reading(record, evidence, check_record(kind, record, evidence))


def _less_sure(evidence: Evidence, sure: float) -> Evidence:
    return Evidence(evidence.how, evidence.page, evidence.box, evidence.quote, round(sure, 3))
