"""Words in a document that give orders to its reader: a hint for the person who looks."""

from __future__ import annotations

from collections.abc import Iterable

from metrikon.core.extraction.indexing.orders import orders
from metrikon.core.extraction.state import State
from metrikon.core.records.check import Check
from metrikon.core.records.findings import Finding


def run(state: State) -> Iterable[Finding]:
    """What is found once a document."""
    return state.index.once("orders", orders)


CHECK = Check(("orders",), "Whether a document holds orders to its reader.", run, rank=140)
