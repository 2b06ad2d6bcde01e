"""Fields without a value whose label stands in the document."""

from __future__ import annotations

from collections.abc import Iterator

from metrikon.core.extraction.indexing.index import squeezed
from metrikon.core.extraction.state import State
from metrikon.core.records.check import Check
from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import get

LABEL = 3  # letters a label needs to be looked for


def run(state: State) -> Iterator[Finding]:
    """One finding for each field that may have been overlooked."""
    for each in state.kind.header:
        if each.required or get(state.record, each.shape) is not None or "labels" not in each.ours or each.lookup:
            continue
        label = next((text for text in each.labels if len(squeezed(text)) >= LABEL and state.index.names(text)), None)
        if label:
            message = f"{each.title} was left out, though the document holds the words “{label}”."
            yield Finding("left out", "stop", message, (each.shape,))


CHECK = Check(("left out",), "Whether a field is open whose label stands in the document.", run, mendable=("left out",), rank=110)
