"""From an answer to a settled reading: parse → fit → ground → check. Pure; asks nothing."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

from metrikon.core.extraction.coerce import Coercion
from metrikon.core.extraction.facts import contradicted, fact_evidence, known, taken
from metrikon.core.extraction.ground import ground
from metrikon.core.extraction.index import Index, Place, squeezed
from metrikon.core.extraction.parse import parse_answer
from metrikon.core.records.checks import check_record
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import escape, get, shape
from metrikon.core.records.types import RecordType
from metrikon.core.values.numbers import parse_number

LABEL = 3  # letters a label needs to be looked for


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
    facts = known(kind, index, coercion)
    differing = contradicted(facts, record, ground(kind, record, index, given)) if facts else []
    record = taken(kind, record, facts, coercion.changes) if facts else record
    evidence = ground(kind, record, index, given)
    for each in facts:
        if each.fact.words or not evidence[each.field.shape].found:
            evidence[each.field.shape] = fact_evidence(each, index)
    record = as_printed(record, evidence, index)
    for pointer, least in (sure or {}).items():
        if pointer in evidence and least < evidence[pointer].sure:
            evidence[pointer] = _less_sure(evidence[pointer], least)
    notes = [Finding("cut off", "stop", "The model's answer was cut off: values or rows may be missing.")] if parsed.cut_off else []
    notes += [_unusable(kind, pointer) for pointer in coercion.dropped]
    notes += differing + left_out(kind, record, index) + hidden_text(index)
    findings = notes + check_record(kind, record, evidence)
    return Reading(record, evidence, findings, (*parsed.changes, *coercion.changes), notes)


def _unusable(kind: RecordType, pointer: str) -> Finding:
    field = kind.by_shape.get(shape(pointer))
    title = field.title if field else pointer or "The record"
    return Finding("unusable", "stop", f"{title}: what the model gave cannot be used. Fill it in by hand.", (pointer,))


def left_out(kind: RecordType, record: dict[str, Any], index: Index) -> list[Finding]:
    """Fields without a value whose label stands at the start of a piece of print: they may have been overlooked."""
    found = []
    for each in kind.header:
        if each.required or get(record, each.shape) is not None or "labels" not in each.ours:
            continue
        label = next((text for text in each.labels if len(squeezed(text)) >= LABEL and _starts_print(index, text)), None)
        if label:
            message = f"{each.title} was left out, though the document holds the words “{label}”."
            found.append(Finding("left out", "stop", message, (each.shape,)))
    return found


def hidden_text(index: Index) -> list[Finding]:
    """What the document holds that a person does not see: it was not read, and someone should know."""
    hidden = index.document.hidden
    if not hidden:
        return []
    some = "; ".join(f"“{each.text[:80]}” ({each.why})" for each in hidden[:3])
    return [Finding("hidden text", "warn", f"The document holds text that a person does not see, which was left out: {some}.")]


def _starts_print(index: Index, label: str) -> bool:
    for place in index.find_text(label):
        page = index.pages[place.page]
        line = page.lines[page.line_of[place.words[0]]]
        if place.exact and any(segment.first == place.words[0] for segment in line.segments):
            return True
    return False


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
