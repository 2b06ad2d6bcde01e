"""A file that holds several documents, of which no one record can be made."""

from __future__ import annotations

from collections.abc import Iterator

from metrikon.core.extraction.state import State
from metrikon.core.records.check import Check
from metrikon.core.records.findings import Finding

SHOWN = 6  # documents that are named


def run(state: State) -> Iterator[Finding]:
    """One finding where a file holds more than one."""
    held = state.index.document.documents
    if len(held) < 2:
        return
    told = "; ".join(f"{each.title or 'one'} (page {', '.join(map(str, each.pages))})" for each in held[:SHOWN])
    message = f"The file seems to hold {len(held)} documents: {told}. Let the flow go through `documents` of its read step, or send them one by one."
    yield Finding("several documents", "stop", message)


CHECK = Check(("several documents",), "Whether a file holds one document.", run, rank=130)
