"""What the document holds that a person does not see: it was not read, and someone should know."""

from __future__ import annotations

from collections.abc import Iterator

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.state import State
from metrikon.core.records.check import Check
from metrikon.core.records.findings import Finding

SHOWN = 3  # pieces of it that are quoted


def hidden_text(index: Index) -> Iterator[Finding]:
    """One finding for all of it."""
    hidden = index.document.hidden
    if hidden:
        some = "; ".join(f"“{each.text[:80]}” ({each.why})" for each in hidden[:SHOWN])
        yield Finding("hidden text", "warn", f"The document holds text that a person does not see, which was left out: {some}.")


CHECK: Check[State] = Check(("hidden text",), "Whether a document holds text that nobody sees.", lambda state: hidden_text(state.index), rank=120)
