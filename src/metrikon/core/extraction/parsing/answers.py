"""The first stage: the texts of answers made into one record."""

from __future__ import annotations

from dataclasses import replace

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.parsing.coerce import Coercion
from metrikon.core.extraction.parsing.parse import parse_answer
from metrikon.core.extraction.parsing.readings import Draft, draft
from metrikon.core.extraction.planning.asking import Given
from metrikon.core.extraction.state import State
from metrikon.core.records.types import RecordType


def parse(state: State) -> State:
    """The answers made into one record: parsed, fitted to its type, parts merged, rows taken from tables or as they were written."""
    made = _whole(state.kind, state.index, state.given[0]) if state.by_patterns else draft(state.kind, state.index, state.planned, state.given)
    return replace(state, draft=made, record=made.record).told(made.changes)


def _whole(kind: RecordType, index: Index, given: Given) -> Draft:
    """The draft of a reader that gives a whole record and knows its places."""
    parsed = parse_answer(given.text)
    coercion = Coercion(kind, index)
    record = coercion.record(parsed.value)
    changes = [*parsed.changes, *coercion.changes]
    return Draft(record, dict(given.places), set(), changes, list(coercion.dropped), parsed.cut_off)
