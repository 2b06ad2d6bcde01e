"""Failures for good: what is told of one, and which of them have one cause, so that it is told once."""

from __future__ import annotations

import hashlib
import re
from dataclasses import dataclass

from metrikon.core.values.text import fold

_VARIES = re.compile(
    r"‘[^’]*’|“[^”]*”|'[^']*'|\"[^\"]*\"|\S*\d\S*"
)  # quoted words, and all that holds a figure: numbers, times, ids, addresses with them


@dataclass(frozen=True)
class Failure:
    """A step that has failed for good, or a run that cannot go on for another reason (`path` is empty then). `number`: its place among all of them."""

    flow: str
    run_id: str
    item_id: str
    path: str
    message: str
    attempts: int = 0
    number: int = 0
    at: int = 0  # milliseconds since 1970
    item_name: str = ""
    own: bool = False  # its flow has steps of its own for failures

    @property
    def step(self) -> str:
        """The name of the step: the same for all elements of a list."""
        return self.path.rpartition("/")[2]

    @property
    def cause(self) -> str:
        """The same for failures that have one cause: the step, and what it says without what differs from item to item."""
        message = self.message.replace(self.item_name, " ") if self.item_name else self.message
        said = " ".join(_VARIES.sub(" ", fold(message)).split())
        return hashlib.sha256(f"{self.step}\0{said}".encode()).hexdigest()[:32]
