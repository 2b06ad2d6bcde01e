"""Keys that came out equal for papers that differ: such a key tells no row from another."""

from __future__ import annotations

from collections import OrderedDict

ENOUGH = 3  # papers that differ: two may well be the same one, come in two ways
MOST_STEPS, MOST_PAPERS = 500, 20  # that are remembered


class KeysAlike:
    """Remembers what keys a step gave for the papers that were tried. A step is known by its flow, its name and how its key is made."""

    def __init__(self) -> None:
        self._seen: OrderedDict[tuple[str, str, str], OrderedDict[str, set[str]]] = OrderedDict()

    def told(self, flow: str, step: str, made_of: str, paper: str, keys: set[str]) -> str:
        """Take in the keys of a paper, known by the hash of its content; what is to be told, or nothing."""
        papers = self._seen.setdefault((flow, step, made_of), OrderedDict())
        self._seen.move_to_end((flow, step, made_of))
        papers[paper] = keys
        papers.move_to_end(paper)
        if len(papers) > MOST_PAPERS:
            papers.popitem(last=False)
        if len(self._seen) > MOST_STEPS:
            self._seen.popitem(last=False)
        every = set().union(*papers.values())
        if len(papers) < ENOUGH or len(every) > 1:
            return ""
        return (
            f"The step {step} gave the same key for {len(papers)} papers that differ ({next(iter(every))}): only the first of them would have a row. "
            "Put into its key what tells rows apart."
        )
