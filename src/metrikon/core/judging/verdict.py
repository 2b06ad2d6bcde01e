"""What judging comes to: plain data, kept with the run."""

from __future__ import annotations

from typing import Any

import msgspec

from metrikon.core.extraction.planning.asking import Request
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding


class Option(msgspec.Struct, frozen=True, omit_defaults=True):
    """A label, or a question that is answered yes or no: its name, and what it means."""

    name: str
    about: str = ""


class Answer(msgspec.Struct, frozen=True, omit_defaults=True):
    """What was said to one question. `sure`: 0 to 1. `evidence`: the words of the document that it rests on."""

    name: str
    answer: Any
    sure: float
    evidence: Evidence | None = None


class Verdict(msgspec.Struct, frozen=True):
    """What answers came to so far, and what is asked next; `result` is what a flow sees."""

    result: dict[str, Any]
    findings: tuple[Finding, ...] = ()
    next: tuple[Request, ...] = ()
