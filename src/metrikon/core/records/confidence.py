"""How much a value may be trusted: one formula, its inputs kept with the value so that it can be calibrated.

    base       = place × reading
    confidence = (1 − (1 − base) × 0.4^agree) × 0.6^differ × 0.5^failed

`place`: how surely the value stands where it was found (see `extraction.ground`; 0 when it stands nowhere, 1 for a fact).
`reading`: how surely it was read from there: 1 for a fact or a cell of a table; the probability of the least
likely token where the model's server tells, else 0.94 for a language model; the pattern reader's own figure.
`agree`: independent readings that came to the same value, and sums and products that hold with it, at most 3.
`differ`: independent readings that came to another value. `failed`: sums and products that do not hold with it.
"""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

UNATTENDED = Decimal("0.6")  # confidence below which a person must look, where a flow says nothing else
MODEL = 0.94  # a value of a language model that tells no probabilities
MOST_AGREE = 3


@dataclass(frozen=True)
class Inputs:
    """What the confidence of one value is made of."""

    place: float
    reading: float = MODEL
    agree: int = 0
    differ: int = 0
    failed: int = 0

    @property
    def confidence(self) -> float:
        """From 0 to 1."""
        base = self.place * self.reading
        return round((1 - (1 - base) * 0.4 ** min(self.agree, MOST_AGREE)) * 0.6**self.differ * 0.5**self.failed, 3) if base else 0.0

    def as_json(self) -> dict[str, float]:
        """For keeping: what is not as usual."""
        given = {"place": round(self.place, 3), "reading": round(self.reading, 3), "agree": self.agree, "differ": self.differ, "failed": self.failed}
        return {name: float(value) for name, value in given.items() if name in ("place", "reading") or value}
