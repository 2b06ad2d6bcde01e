"""Optional values whose field the document does not name by any of its labels: they belong to something else."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from metrikon.core.extraction.grounding.ground import by_label
from metrikon.core.extraction.state import State
from metrikon.core.records.findings import Finding
from metrikon.core.records.types import Field

KNOWN_LABELS = 5  # labels of a field from which it is taken that a document names it by one of them


def leave_out_unnamed(state: State) -> State:
    """Without such values, in the record and in what repairs propose; each is told."""
    if state.by_patterns:
        return state
    known = [each for each in state.planned.header if _known_by_name(each)]
    record, names = _without(state, known, state.record)
    repairs = [(given, _without(state, known, values)[0]) for given, values in state.draft.repairs]
    titles = {each.name: each for each in known}
    found = [_told(titles[name], state.record[name]) for name in names]
    return replace(state, record=record, draft=replace(state.draft, repairs=repairs), beside=(*state.beside, *found))


def _known_by_name(field: Field) -> bool:
    return not field.required and len(field.ours.get("labels") or ()) >= KNOWN_LABELS and field.shape.count("/") == 1


def _without(state: State, known: list[Field], record: Mapping[str, Any]) -> tuple[dict[str, Any], list[str]]:
    kept, left_out = dict(record), []
    for each in known:
        value = kept.get(each.name)
        if value is None or any(state.index.names(label) for label in each.labels) or by_label(each, value, state.index):
            continue
        del kept[each.name]
        left_out.append(each.name)
    return kept, left_out


def _told(field: Field, value: Any) -> Finding:
    message = f"{field.title} {str(value)[:60]} was left out: the document names no {field.title.lower()}."
    return Finding("no label", "warn", message, (field.shape,))
