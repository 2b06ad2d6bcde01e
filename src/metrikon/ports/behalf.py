"""On whose behalf a thread works, so that whatever many want is shared fairly between them, and until when it may."""

from __future__ import annotations

import math
from contextvars import ContextVar

BEHALF: ContextVar[str] = ContextVar("behalf", default="")  # the party: a flow, or its back-fills; nothing for the house itself
RUNS: ContextVar[tuple[str, ...]] = ContextVar("runs", default=())  # the runs because of which something is sent just now
UNTIL: ContextVar[float] = ContextVar("until", default=math.inf)  # when the limit of a step is over, by the clock `time.monotonic`

_LATER = " later"


def party(flow: str, *, behind: bool) -> str:
    """On whose behalf a run is worked on: its flow, or the back-fills of it."""
    return f"{flow}{_LATER}" if behind else flow


def flow_of(party: str) -> str:
    """The flow of a party."""
    return party.removesuffix(_LATER)
