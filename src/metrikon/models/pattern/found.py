"""What the pattern reader found: a record in the making."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from metrikon.core.extraction.indexing.index import Place
from metrikon.core.records.types import Field


@dataclass
class Found:
    """A record with the place and certainty of its values, by pointer."""

    record: dict[str, Any] = field(default_factory=dict)
    places: dict[str, Place] = field(default_factory=dict)
    sure: dict[str, float] = field(default_factory=dict)

    def put(self, each: Field, value: Any, place: Place | None, sure: float) -> None:
        """Give a header field its value."""
        self.record[each.name] = value
        if place is not None:
            self.places[each.shape] = place
        self.sure[each.shape] = sure
