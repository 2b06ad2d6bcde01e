"""What a step sends out that no destination can look up: a mail, a message, a call. It goes out once for its key, whatever is run again."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from metrikon.core.deliveries.comparing import Differs
from metrikon.core.deliveries.comparing import told as in_words
from metrikon.core.flows.keys import key_of


@dataclass(frozen=True)
class Sends:
    """What a step with its parameters sends out.

    `values`: what of it is compared when it is run again. `key`: parts that a flow gives, so that it goes out by its step once for them over all items; without
    them it goes out once for each item and step. `again`: the flow says that it goes out each time. `looks`: the step itself looks whether it went out before.
    `of_item`: what tells it from others that its step makes of an item. `moves`: a run that corrects takes it over, and what it wants no longer is taken back.
    """

    what: str  # the word for it, of at most ten letters
    target: str
    values: Mapping[str, Any]
    key: Sequence[Any] | None = None
    again: bool = False
    looks: bool = False
    of_item: Sequence[Any] = ()
    moves: bool = False

    def key_for(self, flow: str, item_id: str, path: str) -> str:
        """The key under which it goes out. `path`: of the step, with those of the steps that use its flow before it."""
        if self.key:
            step = re.sub(r"\[.*?\]", "", path).rsplit("/", 1)[-1]
            scope = hashlib.sha256(f"{flow} {step} {self.target}".encode()).hexdigest()[:24]
            return f"{self.what}|{scope}|{key_of(self.key)}"
        told = hashlib.sha256(f"{flow} {item_id} {path}{f' {key_of(self.of_item)}' if self.of_item else ''}".encode()).hexdigest()[:48]
        return f"{self.what}|{told}"


def told_of(what: str, result: Any) -> str:
    """What a run is to tell of something that went out before with other values, and was left at that; nothing for anything else."""
    found = result.get("differs") if isinstance(result, Mapping) else None
    every = [Differs(str(each["column"]), each["there"], each["wanted"]) for each in found or ()]
    return f"The {what} went out before with other values, and was not repeated: {in_words(every)}" if every else ""
