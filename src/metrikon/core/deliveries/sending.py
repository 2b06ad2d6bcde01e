"""What a step sends out that no destination can look up: a mail, a message, a call. It goes out once for its key, whatever is run again."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

from metrikon.core.flows.keys import key_of

What = Literal["mail", "message", "call", "entry"]


@dataclass(frozen=True)
class Sends:
    """What a step with its parameters sends out.

    `values`: what of it is compared when it is run again. `key`: parts that a flow gives, so that it goes out once for them over all items; without them
    it goes out once for each item and step. `again`: the flow says that it goes out each time.
    """

    what: What
    target: str
    values: Mapping[str, Any]
    key: Sequence[Any] | None = None
    again: bool = False

    def key_for(self, flow: str, item_id: str, path: str) -> str:
        """The key under which it goes out. `path`: of the step, with those of the steps that use its flow before it."""
        if self.key:
            return f"{self.what}|{self.target}|{key_of(self.key)}"[:500]
        told = hashlib.sha256(f"{flow} {item_id} {path}".encode()).hexdigest()[:48]
        return f"{self.what}|{told}"
