"""compare: tell what changed, and whether it matters."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.judging.compare import OUTCOMES, Compare, lines_of
from metrikon.core.judging.differences import values_differ
from metrikon.core.judging.matter import LONGEST
from metrikon.ports.step import Call, Outcome, StepFailed, Workshop
from metrikon.steps.judging import document_in, judged, record_in


def run(call: Call, workshop: Workshop) -> Outcome:
    """What changed, both sides of each change, and which of them matter."""
    return judged(call, workshop, _task(call, workshop), OUTCOMES, f"Does what changed in {call.file_name} matter?")


def _task(call: Call, workshop: Workshop) -> Compare:
    given = call.parameters
    now, before, matters, least = given["of"], given["before"], str(given["matters"]), float(given["least"])
    sha256 = document_in(before)
    if sha256 is not None:
        return Compare(tuple(lines_of(Index(workshop.read_document(sha256, call.flow)))), None, matters, least)
    before, now = record_in(before), record_in(now)
    if isinstance(before, Mapping | list) and isinstance(now, type(before)):
        return Compare((), tuple(values_differ(before, now)), matters, least)
    if before is None or isinstance(before, str):
        return Compare(tuple(_text(before).splitlines()), None, matters, least)
    raise StepFailed("`before` and `of` must be of one sort: two texts or pages, or two records. Correct the flow, then continue.")


def _text(value: Any) -> str:
    text = "" if value is None else str(value)
    if len(text) > LONGEST:
        raise StepFailed(f"`before` has more than {LONGEST:,} characters. Give less of it.")
    return text
