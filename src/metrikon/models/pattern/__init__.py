"""The pattern reader: labels, positions, tables and types; no language model, no network.

It reads any record type from what the type itself says of its fields: their labels, kinds and
forms. It is the default where no model is set up, and an independent reading beside any model.
"""

from __future__ import annotations

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.asking import Given, by_patterns
from metrikon.core.records.types import RecordType
from metrikon.core.values.exact import dumps
from metrikon.models.pattern.reader import read_besides, read_record
from metrikon.ports.model import ModelAnswer, ModelRefused, ModelRequest

PATTERN = "pattern"


class PatternModel:
    """Stands among the models under its name; it reads documents, not prompts."""

    name = PATTERN
    room = 0
    sees = 0

    def answer(self, request: ModelRequest) -> ModelAnswer:
        """Always refuses: see `pattern_given`."""
        raise ModelRefused("The pattern reader reads documents and answers no prompts.")


def pattern_given(kind: RecordType, index: Index) -> Given:
    """What patterns find in a document, with the place and the certainty of each value."""
    found = read_record(kind, index)
    return by_patterns(dumps(found.record).decode(), found.places, found.sure)


__all__ = ["PATTERN", "PatternModel", "pattern_given", "read_besides"]
