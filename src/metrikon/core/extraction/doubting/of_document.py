"""Findings about a document as a whole: what was left out, what nobody sees, that it is several."""

from __future__ import annotations

from typing import Any

from metrikon.core.extraction.indexing.index import Index, squeezed
from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import get
from metrikon.core.records.types import RecordType

LABEL = 3  # letters a label needs to be looked for


def left_out(kind: RecordType, record: dict[str, Any], index: Index) -> list[Finding]:
    """Fields without a value whose label stands at the start of a piece of print: they may have been overlooked."""
    found = []
    for each in kind.header:
        if each.required or get(record, each.shape) is not None or "labels" not in each.ours or each.lookup:
            continue
        label = next((text for text in each.labels if len(squeezed(text)) >= LABEL and index.names(text)), None)
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


def several_documents(index: Index) -> list[Finding]:
    """That a file holds several documents, of which no one record can be made."""
    held = index.document.documents
    if len(held) < 2:
        return []
    told = "; ".join(f"{each.title or 'one'} (page {', '.join(map(str, each.pages))})" for each in held[:6])
    message = f"The file seems to hold {len(held)} documents: {told}. Let the flow go through `documents` of its read step, or send them one by one."
    return [Finding("several documents", "stop", message)]
