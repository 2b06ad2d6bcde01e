"""The pattern reader: labels, positions, tables and types; no language model, no network.

It reads any record type from what the type itself says of its fields: their labels, kinds and
forms. It is the default where no model is set up.
"""

from __future__ import annotations

import time

from metrikon.core.extraction.index import Index
from metrikon.core.records.types import RecordType
from metrikon.core.values.exact import dumps
from metrikon.models.pattern.reader import read_record
from metrikon.ports.model import ModelAnswer, ModelRequest, Usage


class PatternModel:
    """Answers from patterns. Costs nothing and gives the same answer every time."""

    name = "pattern"

    def answer(self, request: ModelRequest) -> ModelAnswer:
        """The record as JSON, with the place and the certainty of each value."""
        return request.patterns(request.kind)


def pattern_answer(kind: RecordType, index: Index) -> ModelAnswer:
    """What patterns find in a document."""
    start = time.perf_counter()
    found = read_record(kind, index)
    usage = Usage(calls=1, seconds=time.perf_counter() - start)
    return ModelAnswer(dumps(found.record).decode(), usage, found.places, found.sure)


__all__ = ["PatternModel", "pattern_answer"]
