"""Answers that could not be understood, however often they were asked for."""

from __future__ import annotations

from collections.abc import Iterator

from metrikon.core.extraction.state import State
from metrikon.core.records.check import Check
from metrikon.core.records.findings import Finding


def run(state: State) -> Iterator[Finding]:
    """One finding for each answer."""
    for _, problem in state.draft.unread:
        yield Finding("no answer", "stop", f"The model's answer could not be used. {problem} Fill in what is missing by hand.")


CHECK = Check(("no answer",), "Whether each answer can be understood.", run, spoils=True, rank=20)
