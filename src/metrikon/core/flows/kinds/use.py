"""use: run another flow as a step."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from pydantic import Field

from metrikon.core.flows.around import Around, closed
from metrikon.core.flows.form import Form
from metrikon.core.flows.kind import ANYTHING, Kind, Said, Schema
from metrikon.core.flows.words import shown
from metrikon.core.values.near import meant


class Use(Form):
    """Run another flow with the same item; its run stands under this one's. What its step named `result` gave is the result."""

    flow: str = Field(..., description="Name of the flow.")
    given: dict[str, Any] = Field(default_factory=dict, description="What the flow sees as `given`.")


def _check(parameters: Use, around: Around) -> Iterable[Said]:
    flows = around.known.flows
    if parameters.flow == around.flow.name:
        yield "flow", "It is the flow itself, and would never come to an end. Name another."
    elif parameters.flow not in flows:
        if around.known.whole:
            yield "flow", f"There is no flow {parameters.flow!r}{meant(parameters.flow, flows)} Known: {', '.join(sorted(flows)) or 'no other'}."
    else:
        circle = _circle(parameters.flow, around.flow.name, flows, ())
        if circle:
            yield "flow", f"It would never come to an end: {' uses '.join((around.flow.name, *circle))}. Take one of these steps out."


def _circle(at: str, wanted: str, flows: Mapping[str, Sequence[str]], before: tuple[str, ...]) -> tuple[str, ...]:
    """The way from a flow to the one that is looked for, through the flows that each uses; nothing when there is none."""
    if at == wanted:
        return (*before, at)
    if at in before:
        return ()
    return next((found for each in flows.get(at, ()) if (found := _circle(each, wanted, flows, (*before, at)))), ())


def _result(parameters: Use, around: Around) -> Schema:
    text: Schema = {"type": "string"}
    return closed({"run": text, "outcome": {"type": "string", "enum": ["done", "stopped"]}, "reason": text, "result": ANYTHING})


def _tell(parameters: Use) -> str:
    given = f", given {shown(parameters.given)}" if parameters.given else ""
    return f"Run the flow {parameters.flow}{given}."


SAMPLE = """\
use: {flow: letters, given: {vendor: "${checked.record.vendor}"}}
"""
KIND = Kind(
    "use",
    Use,
    result=_result,
    check=_check,
    outward=False,
    awaited=True,
    leaves=True,
    waits="Another flow is at work for it.",
    uses=lambda parameters: (("flow", parameters.flow),),
    tell=_tell,
    sample=SAMPLE,
)
