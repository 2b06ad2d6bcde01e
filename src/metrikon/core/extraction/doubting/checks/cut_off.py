"""An answer that ended before it was whole."""

from __future__ import annotations

from collections.abc import Iterator

from metrikon.core.extraction.state import State
from metrikon.core.records.check import Check
from metrikon.core.records.findings import Finding


def run(state: State) -> Iterator[Finding]:
    """One finding where an answer was cut off."""
    if state.draft.cut_off:
        yield Finding("cut off", "stop", "The model's answer was cut off: values or rows may be missing.")


CHECK = Check(("cut off",), "Whether an answer is whole.", run, spoils=True, rank=0)
