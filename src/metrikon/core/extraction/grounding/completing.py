"""What a record has beyond what the document says: derived values, defaults, a no for what was left open, how surely it was read."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import msgspec

from metrikon.core.extraction.grounding.defaults import open_as_no, with_defaults
from metrikon.core.extraction.grounding.derived import derived_evidence
from metrikon.core.extraction.state import State
from metrikon.core.records.evidence import Evidence


def complete(state: State) -> State:
    """With all of these, and findings about them."""
    evidence = dict(state.evidence)
    derived_evidence(state.kind, state.record, evidence)
    record, found = with_defaults(state.kind, state.record, evidence, state.asking.today)
    if state.given and not state.by_patterns and not state.draft.unread:
        record, left_open = open_as_no(state.kind, record, evidence)
        found = [*found, *left_open]
    return replace(state, record=record, evidence=evidence).noted(found)


def as_sure_as_read(state: State, evidence: Mapping[str, Evidence]) -> dict[str, Evidence]:
    """Evidence no surer than the reader itself was of its reading."""
    made = dict(evidence)
    for given in state.given:
        for pointer, least in given.sure.items():
            if pointer in made and least < made[pointer].sure:
                made[pointer] = msgspec.structs.replace(made[pointer], sure=round(least, 3))
    return made
