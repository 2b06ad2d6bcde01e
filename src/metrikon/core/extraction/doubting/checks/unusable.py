"""What a model gave that no value can be made of."""

from __future__ import annotations

from collections.abc import Iterator

from metrikon.core.extraction.state import State
from metrikon.core.records.check import Check
from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import get, shape


def run(state: State) -> Iterator[Finding]:
    """One finding for each place whose value was dropped and is open still."""
    for pointer in state.draft.dropped:
        if get(state.record, pointer) is None:
            field = state.kind.by_shape.get(shape(pointer))
            title = field.title if field else pointer or "The record"
            yield Finding("unusable", "stop", f"{title}: what the model gave cannot be used. Fill it in by hand.", (pointer,))


CHECK = Check(("unusable",), "Whether each value can be used at all.", run, mendable=("unusable",), of_rows=("unusable",), rank=10)
