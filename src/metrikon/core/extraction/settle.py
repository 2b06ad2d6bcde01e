"""From an answer to a settled reading: parse → fit → ground → check. Pure; asks nothing."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

from metrikon.core.extraction.coerce import Coercion
from metrikon.core.extraction.ground import ground
from metrikon.core.extraction.index import Index, Place
from metrikon.core.extraction.parse import parse_answer
from metrikon.core.records.checks import check_record
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import escape
from metrikon.core.records.types import RecordType
from metrikon.core.values.numbers import parse_number


@dataclass(frozen=True)
class Reading:
    """One record as read: its values, their evidence, what checks found, and what parsing changed."""

    record: dict[str, Any]
    evidence: dict[str, Evidence]
    findings: list[Finding]
    changes: tuple[str, ...] = ()
    notes: list[Finding] = field(default_factory=list)


def settle(kind: RecordType, answer: str, index: Index, given: Mapping[str, Place] | None = None, sure: Mapping[str, float] | None = None) -> Reading:
    """The reading that an answer stands for. Raises `NotUnderstood` when it holds no JSON."""
    parsed = parse_answer(answer)
    coercion = Coercion(kind, index)
    record = coercion.record(parsed.value)
    evidence = ground(kind, record, index, given)
    record = as_printed(record, evidence, index)
    for pointer, least in (sure or {}).items():
        if pointer in evidence and least < evidence[pointer].sure:
            evidence[pointer] = _less_sure(evidence[pointer], least)
    notes = [Finding("cut off", "stop", "The model's answer was cut off: values or rows may be missing.")] if parsed.cut_off else []
    findings = notes + check_record(kind, record, evidence)
    return Reading(record, evidence, findings, (*parsed.changes, *coercion.changes), notes)


def as_printed(record: dict[str, Any], evidence: Mapping[str, Evidence], index: Index) -> dict[str, Any]:
    """Amounts with the digits that are printed: 407.8 becomes 407.80 where the document says so."""
    if isinstance(record, dict):
        return {name: _printed(value, f"/{escape(name)}", evidence, index) for name, value in record.items()}
    return record


def _printed(value: Any, pointer: str, evidence: Mapping[str, Evidence], index: Index) -> Any:
    if isinstance(value, dict):
        return {name: _printed(part, f"{pointer}/{escape(name)}", evidence, index) for name, part in value.items()}
    if isinstance(value, list):
        return [_printed(part, f"{pointer}/{number}", evidence, index) for number, part in enumerate(value)]
    if isinstance(value, Decimal | int) and not isinstance(value, bool) and pointer in evidence:
        found = parse_number(evidence[pointer].quote, index.mark)
        return found if found is not None and found == value else value
    return value


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
