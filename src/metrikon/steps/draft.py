"""draft: write a text from a document or record."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

from metrikon.core.judging.draft import OUTCOMES, Draft, Figure, worked_out
from metrikon.ports.step import Call, Outcome, Workshop
from metrikon.steps.judging import document_in, judged, record_in


def run(call: Call, workshop: Workshop) -> Outcome:
    """The text, with what of it is in no source."""
    given = call.parameters
    figures = [Figure(str(name), _told(value)) for name, value in given["figures"].items() if value is not None]
    own = worked_out(record_in(given["of"])) if document_in(given["of"]) is None else []
    task = Draft(str(given["instructions"]), int(given["words"]), str(given["language"]), (*figures, *own))
    return judged(call, workshop, task, OUTCOMES, f"May the text on {call.file_name} be used?")


def _told(value: Any) -> str:
    return f"{value:f}" if isinstance(value, Decimal) else str(value)
