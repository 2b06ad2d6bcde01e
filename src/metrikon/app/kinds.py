"""The kinds of step, intake and destination that there are: ours, and those of other packages, all found by entry points.

An entry point of the group `metrikon.kinds` is a `core.flows.kind.Kind`, one of `metrikon.steps` with the same name the function that does it, one of
`metrikon.taking_back` the function that takes back what it has sent out (`ports.step.TakesBack`), where that can be; one of
`metrikon.intakes` is a `ports.intake.IntakeKind`, one of `metrikon.destinations` a `ports.destination.DestinationKind`. Its name is that of the kind.
"""

from __future__ import annotations

import logging
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache, cached_property
from importlib.metadata import entry_points
from typing import Any

from metrikon.core.flows.kind import Kind, Language
from metrikon.core.flows.model import Common
from metrikon.ports.destination import DestinationKind
from metrikon.ports.intake import IntakeKind
from metrikon.ports.step import TakesBack

log = logging.getLogger("metrikon.app")
KINDS, STEPS, INTAKES, DESTINATIONS = "metrikon.kinds", "metrikon.steps", "metrikon.intakes", "metrikon.destinations"
TAKING_BACK = "metrikon.taking_back"


@dataclass(frozen=True)
class Kinds:
    """All kinds, by name; `runners` holds what each kind of step does that is not control, `takers` what takes back that which some of them send out."""

    steps: Mapping[str, Kind]
    runners: Mapping[str, Any]
    takers: Mapping[str, TakesBack]
    intakes: Mapping[str, IntakeKind]
    destinations: Mapping[str, DestinationKind]

    @cached_property
    def language(self) -> Language:
        """The flow language that they make."""
        return Language(
            self.steps,
            {name: each.parameters for name, each in self.intakes.items()},
            {name: each.parameters for name, each in self.destinations.items()},
        )


@cache
def kinds() -> Kinds:
    """The kinds that are installed. One that cannot be loaded is left out, and said so in the log."""
    steps = {name: kind for name, kind in _loaded(KINDS).items() if isinstance(kind, Kind) and name not in Common.model_fields}
    runners = _loaded(STEPS)
    whole = {name: kind for name, kind in steps.items() if kind.control is not None or name in runners}
    for name in steps.keys() - whole.keys():
        log.error("the kind of step %s is left out: nothing says what it does (entry point %s)", name, STEPS)
    return Kinds(whole, runners, _loaded(TAKING_BACK), _loaded(INTAKES), _loaded(DESTINATIONS))


def _loaded(group: str) -> dict[str, Any]:
    """The objects of a group of entry points, ours first, then by name."""
    found: dict[str, Any] = {}
    for each in sorted(entry_points(group=group), key=lambda each: (not each.value.startswith("metrikon."), _order(each.name), each.name)):
        try:
            found.setdefault(each.name, each.load())
        except Exception:
            log.exception("%s %s of %s cannot be loaded and is left out", group, each.name, each.value)
    return found


_ORDER = (
    "read",
    "extract",
    "classify",
    "judge",
    "compare",
    "draft",
    "check",
    "decide",
    "set",
    "lookup",
    "tally",
    "convert",
    "chart",
    "compose",
    "fetch",
    "search",
    "choose",
    "each",
    "use",
    "wait",
    "ask",
    "write",
    "save",
    "attach",
    "enter",
    "post",
    "mail",
    "stop",
    "folder",
    "upload",
    "mailbox",
    "form",
    "webhook",
    "rows",
    "schedule",
    "failures",
    "feed",
    "poll",
    "calendar",
    "chat",
    "remote_folder",
    "xlsx",
    "ods",
    "csv",
    "sql",
    "service",
)


def _order(name: str) -> int:
    return _ORDER.index(name) if name in _ORDER else len(_ORDER)
