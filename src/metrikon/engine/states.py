"""Where waiting runs stand, kept at hand: only what was journaled since has to be folded when they go on."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Mapping
from dataclasses import dataclass

from metrikon.core.flows.state import State

MOST = 200  # runs


@dataclass(frozen=True)
class Kept:
    """The state of a run after so many entries of its journal, which all are committed."""

    state: State
    entries: int
    today: str
    file_name: str
    versions: Mapping[str, int]
    send_again: bool = False  # what went out before goes out again
    anew: int = 0  # models are asked anew: what they answered before this moment is not used


class States:
    """A small store of states, safe from several threads. It may forget: the journal has it all."""

    def __init__(self, most: int = MOST) -> None:
        self._most = most
        self._lock = threading.Lock()
        self._kept: OrderedDict[str, Kept] = OrderedDict()

    def keep(self, run_id: str, kept: Kept) -> None:
        """Keep the state of a run that waits; the oldest goes when there are too many."""
        with self._lock:
            self._kept[run_id] = kept
            self._kept.move_to_end(run_id)
            while len(self._kept) > self._most:
                self._kept.popitem(last=False)

    def look(self, run_id: str) -> Kept | None:
        """The state of a run, which goes on being kept."""
        with self._lock:
            return self._kept.get(run_id)

    def take(self, run_id: str) -> Kept | None:
        """The state of a run, which is not kept any longer."""
        with self._lock:
            return self._kept.pop(run_id, None)
