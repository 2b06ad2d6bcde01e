"""One of several documents within a file, as a step names it."""

from __future__ import annotations

from typing import Any

import msgspec

from metrikon.core.documents.model import Within
from metrikon.ports.step import StepFailed


def one_of(given: Any) -> Within | None:
    """The part of a file that a step works on; None for the whole of it. Raises `StepFailed`."""
    if given is None:
        return None
    try:
        return msgspec.convert(given, Within)
    except msgspec.ValidationError as error:
        raise StepFailed("`only` must be an element of `documents` of a read step, such as ${paper}. Correct the flow, then continue.") from error
