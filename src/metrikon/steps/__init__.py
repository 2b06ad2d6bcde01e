"""What each kind of step does; one module a kind. `write` has none: the engine gathers its rows."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from metrikon.ports.step import Call, House, Outcome
from metrikon.steps import check, extract, read

RUNNERS: Mapping[str, Callable[[Call, House], Outcome]] = {"read": read.run, "extract": extract.run, "check": check.run}
