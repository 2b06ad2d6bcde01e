"""The name of the file that each value stands in, where several were read as one."""

from __future__ import annotations

from dataclasses import replace

import msgspec

from metrikon.core.extraction.state import State


def name_files(state: State) -> State:
    """With these names in the evidence."""
    files = {page.number: page.part for page in state.index.document.pages if page.part}
    if not files:
        return state
    named = {at: msgspec.structs.replace(each, file=files[each.page]) if each.page in files else each for at, each in state.evidence.items()}
    return replace(state, evidence=named)
