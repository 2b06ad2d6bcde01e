"""One evaluation: what it may cost, the moment it takes place at, and what led to null."""

from __future__ import annotations

from datetime import datetime

MOST_STEPS = 150_000  # rounds, elements gone through and functions called, each as often as it has parts
MOST_MADE = 1_000_000  # characters and elements that an expression makes, all in all
COSTLY = 25  # steps that a logarithm, a power or a pattern counts for
DEEPEST_CALLS = 40  # functions of an expression that call each other


class FeelError(ValueError):
    """An expression that cannot be worked out: it takes too much work or makes too much."""


class Running:
    """Counts while an expression is worked out. `moment`: what `now()` gives. `missing`: names and calls that gave null."""

    __slots__ = ("depth", "made", "missing", "moment", "steps")

    def __init__(self, moment: datetime | None = None, missing: list[str] | None = None) -> None:
        self.moment = moment
        self.missing = missing
        self.steps = 0
        self.made = 0
        self.depth = 0

    def step(self, count: int = 1) -> None:
        """So much is about to be done. Raises `FeelError` when it is too much."""
        self.steps += count
        if self.steps > MOST_STEPS:
            raise FeelError(f"It takes more than {MOST_STEPS} steps.")

    def make(self, size: int) -> None:
        """So many characters or elements are about to be made. Raises `FeelError` when they are too many."""
        self.made += size
        if self.made > MOST_MADE:
            raise FeelError(f"It makes more than {MOST_MADE} characters and elements.")

    def note(self, what: str) -> None:
        """Something gave null."""
        if self.missing is not None and what not in self.missing and len(self.missing) < 20:
            self.missing.append(what)
