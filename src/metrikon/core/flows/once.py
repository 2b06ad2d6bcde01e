"""What steps have in common that send something which no destination can look up."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from metrikon.core.flows.form import Form
from metrikon.core.flows.kind import Schema

BEFORE: dict[str, Schema] = {
    "by": {"type": "string", "description": "The run by which it went out, if another."},
    "differs": {"type": "array", "items": {"type": "object"}, "description": "What of it was sent otherwise than it would be now, with both values."},
}


class Once(Form):
    """Something that goes out once."""

    key: list[Any] = Field(
        default_factory=list,
        max_length=20,
        description="What tells this from all others that go out by this step, e.g. vendor and number: it goes out once for it. Without it, once for each item.",
    )
    if_sent: Literal["leave", "again"] = Field(
        "leave", description="When it went out before and the item is run again: it is left at that, or goes out again."
    )
