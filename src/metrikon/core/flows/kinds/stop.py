"""stop: end the run."""

from __future__ import annotations

from typing import TYPE_CHECKING

from pydantic import Field

from metrikon.core.flows.form import Form
from metrikon.core.flows.kind import Kind, Steady
from metrikon.core.flows.words import shown

if TYPE_CHECKING:
    from metrikon.core.flows.walk import Here, Walk


class Stop(Form):
    """End the run here."""

    reason: str = Field(..., min_length=1, description="Why, in words for people.")


class _Stopping(Steady):
    def enter(self, walk: Walk, here: Here) -> None:
        values, _ = walk.filled(here, here.step.plain)
        walk.settle("stopped", str(values["reason"]))


def _tell(parameters: Stop) -> str:
    return f"End the run: {shown(parameters.reason)}"


SAMPLE = """\
stop: {reason: It is no invoice.}
"""
KIND = Kind(
    "stop",
    Stop,
    result=lambda parameters, around: None,
    control=_Stopping(),
    ends=True,
    tell=_tell,
    sample=SAMPLE,
)
