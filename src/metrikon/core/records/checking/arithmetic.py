"""Sums and products that a record type names."""

from __future__ import annotations

from collections.abc import Iterable

from metrikon.core.records.check import Check
from metrikon.core.records.checked import Checked
from metrikon.core.records.findings import Finding


def run(checked: Checked) -> Iterable[Finding]:
    """What was found when they were worked out."""
    return checked.reckoned.findings


CHECK = Check(("sum", "product"), "Whether the sums and products of a record type hold.", run, mendable=("sum",), of_rows=("sum", "product"), rank=50)
