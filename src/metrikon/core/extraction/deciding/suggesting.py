"""Values that are more likely wrong than right, of fields that may be empty: each stays as a suggestion beside its field."""

from __future__ import annotations

import copy
from dataclasses import replace
from typing import Any

from metrikon.core.extraction.state import State
from metrikon.core.records.confidence import MODEL
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import get, steps
from metrikon.core.records.types import RecordType

SUGGESTED = 0.5  # confidence below which a value of a field that may be empty is a suggestion: on documents of other hands most are wrong


def suggest(state: State) -> State:
    """Without such values; what a reader that reads alone is unsure of stays."""
    if state.by_patterns:
        return state
    record, found = unsure(state.kind, dict(state.record), evidence := dict(state.evidence))
    return replace(state, record=record, evidence=evidence).noted(found)


def unsure(kind: RecordType, record: dict[str, Any], evidence: dict[str, Evidence]) -> tuple[dict[str, Any], list[Finding]]:
    """The record without values that are more likely wrong than right, of fields that may be empty; each stays as a suggestion beside its field.

    Only those of which the reader itself was unsure: a value that is sure and stands nowhere is held by its own finding.
    """
    found: list[Finding] = []
    for each in kind.header:
        known = evidence.get(each.shape)
        value = get(record, each.shape)
        may_be_empty = (each.nullable or not each.required) and each.ours.get("unsure") != "warn"  # which says that doubt need not stop it
        if known is None or value is None or not may_be_empty or known.confidence >= SUGGESTED or known.inputs.get("reading", MODEL) >= MODEL:
            continue
        record = record if found else copy.deepcopy(record)
        holder, last = get(record, each.shape.rpartition("/")[0]), steps(each.shape)[-1]
        if each.nullable:
            holder[last] = None
        else:
            del holder[last]
        del evidence[each.shape]
        told = {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)[:200]
        message = f"{each.title} was given as “{told[:60]}”, which is {known.confidence:.0%} sure; the field was left empty. Compare it."
        found.append(Finding("suggested", "stop", message, (each.shape,), {"suggested": told}))
    return record, found
