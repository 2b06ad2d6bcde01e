"""Exchange rates, as steps have them: fetched by their connection, taken anew where they changed."""

from __future__ import annotations

import threading
from collections.abc import Mapping
from typing import Any

from metrikon.connections.fetching import FetchFailed, Wanted
from metrikon.core.values.rates import LARGEST, NoRate, Rates, rates
from metrikon.ports.step import StepFailed, Workshop
from metrikon.steps.failing import not_reached

SECONDS, MOST_KNOWN = 30.0, 8


def rates_of(said: Mapping[str, Any], workshop: Workshop) -> Rates:
    """The rates that a flow names (`core.flows.rating.RatesFrom`). Raises `StepFailed`."""
    wanted = Wanted(str(said["path"]), LARGEST, SECONDS, connection=str(said["connection"]))
    try:
        kept = workshop.fetch(wanted)
    except FetchFailed as error:
        raise not_reached(error, f"The rates could not be had: {error}") from error
    try:
        return _read(kept.file, workshop)
    except NoRate as error:
        raise StepFailed(f"{kept.url} gives no rates: {error} Correct the connection or the path, then continue.") from error


def _read(sha256: str, workshop: Workshop) -> Rates:
    """A list is parsed once for its hash, whoever asks."""
    with _LOCK:
        if sha256 not in _KNOWN:
            while len(_KNOWN) >= MOST_KNOWN:
                del _KNOWN[next(iter(_KNOWN))]
            _KNOWN[sha256] = rates(workshop.file(sha256))
        return _KNOWN[sha256]


_KNOWN: dict[str, Rates] = {}
_LOCK = threading.Lock()
