"""What the pattern reader found: a record in the making."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from metrikon.core.extraction.indexing.index import Place
from metrikon.core.records.pointers import get, steps
from metrikon.core.records.types import Field


@dataclass
class Found:
    """A record with the place and certainty of its values, by pointer."""

    record: dict[str, Any] = field(default_factory=dict)
    places: dict[str, Place] = field(default_factory=dict)
    sure: dict[str, float] = field(default_factory=dict)

    def has(self, each: Field) -> bool:
        """Whether a header field has a value."""
        return get(self.record, each.shape) is not None

    def put(self, each: Field, value: Any, place: Place | None, sure: float) -> None:
        """Give a header field its value, within the objects that it stands in."""
        *path, last = steps(each.shape)
        spot = self.record
        for step in path:
            spot = spot.setdefault(step, {})
        spot[last] = value
        if place is not None:
            self.places[each.shape] = place
        self.sure[each.shape] = sure
