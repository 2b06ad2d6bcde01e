"""Evidence: where in the document a value stands, or the plain mark that it is nowhere."""

from __future__ import annotations

from typing import Any

import msgspec

from metrikon.core.documents.model import Box

NOT_FOUND = "not found in the document"
BY_DEFAULT = "not in the document, by default"


class Evidence(msgspec.Struct, frozen=True, omit_defaults=True, gc=False):
    """For one value: page (from 1), box in page units, the words quoted, how it was found, how sure (0 to 1).

    `how`: "printed" (the value stands there), "sign" or "mapped" (a mark, a word or another form stands for it), "said" (in words),
    "decided" (the words it rests on), "fact" (the file says so in its data for programs), "derived" (worked out from other values),
    "list" (a list of known values says so), "person" (given by a person), "not in the document, by default", or "not found in the document".
    `file`: of which of several files that were read as one, such as an attachment of a mail.
    `confidence` (0 to 1) is worked out from `sure` and `inputs`: see `records.confidence`.
    """

    how: str
    page: int = 0
    box: Box | None = None
    quote: str = ""
    sure: float = 1.0
    confidence: float = 1.0
    inputs: dict[str, float] = {}
    file: str = ""

    @property
    def found(self) -> bool:
        return self.how != NOT_FOUND


MISSING = Evidence(NOT_FOUND, sure=0.0, confidence=0.0)


def as_json(evidence: dict[str, Evidence]) -> dict[str, Any]:
    """Plain data, for storing and sending."""
    return {pointer: msgspec.to_builtins(each) for pointer, each in evidence.items()}


def from_json(data: dict[str, Any]) -> dict[str, Evidence]:
    """Evidence from plain data."""
    return msgspec.convert(data, dict[str, Evidence])
