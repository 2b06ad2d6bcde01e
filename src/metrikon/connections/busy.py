"""A service that could not be asked, as those who write rows are told of it."""

from __future__ import annotations

from metrikon.connections.fetching import FetchFailed
from metrikon.ports.destination import Busy


def busy(error: FetchFailed, more: str = "") -> Busy:
    """That trying later may help, and when."""
    return Busy(f"{error}{more}", wait=error.wait, turn=error.cause == "turn")
