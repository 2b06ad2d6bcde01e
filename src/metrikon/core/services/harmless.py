"""An operation of a described service that may be asked for at any time: it changes nothing, and wants nothing."""

from __future__ import annotations

from metrikon.core.services.description import Description, Operation
from metrikon.core.services.notes import Notes


def harmless(told: Description, notes: Notes | None) -> Operation | None:
    """One that people have noted for finding records where that can be asked without a value, else the first that reads something; None where none does."""
    noted = [each.find.operation for each in notes.records.values() if each.find is not None] if notes is not None else []
    order = [*(told.operations[name] for name in noted if name in told.operations), *told.operations.values()]
    return next((each for each in order if each.method == "GET" and "{" not in each.path and not any(field.wanted for field in each.fields)), None)
