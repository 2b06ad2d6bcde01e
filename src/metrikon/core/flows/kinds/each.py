"""each: do steps for each element of a list."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from decimal import Decimal
from typing import TYPE_CHECKING, Annotated, Any, Literal

import msgspec
from immutables import Map
from msgspec.structs import replace
from pydantic import Field

from metrikon.core.feel import BadExpression, names, parse
from metrikon.core.feel.holes import expressions
from metrikon.core.flows.around import Around
from metrikon.core.flows.form import NAME, Block, Form
from metrikon.core.flows.kind import ANYTHING, Dealt, Kind, Said, Schema, Steady
from metrikon.core.flows.model import Step
from metrikon.core.flows.words import shown

if TYPE_CHECKING:
    from metrikon.core.flows.state import Frame
    from metrikon.core.flows.walk import Here, Walk

MOST_ELEMENTS = 20_000  # of a list that is gone through


class Each(Form):
    """Do the steps for each element of a list. `as` names the element; `<name>_number` counts from 1. Its result is the list of what they gave."""

    of: str = Field(..., description="A list.")
    name: Annotated[str, Field(alias="as", pattern=NAME, description="What an element is called in the steps.")]
    at_once: int = Field(0, ge=0, le=MOST_ELEMENTS, description="How many elements are gone through at the same time; 0: all.")
    on_failure: Literal["stop", "go on", "gather"] = Field(
        "stop",
        description="When an element fails for good: the run is parked there; or the others go on and the result tells what failed; or the others go on "
        "and those that failed are gathered for a person, who lets them be tried again or leaves them out.",
    )
    steps: Block = Field(..., description="What is done for each.")


class Loop(msgspec.Struct, frozen=True):
    """A list being gone through: its elements, how many were begun and are through, and why some were refused or have failed.

    What an element gave is held under the path of its block: a loop of many costs no more for each.
    """

    items: tuple[Any, ...]
    begun: int = 0
    through: int = 0
    refused: Map[int, str] = Map()
    failed: Map[int, str] = Map()


class _GoingThrough(Steady):
    def enter(self, walk: Walk, here: Here) -> None:
        each = here.step.parameters
        items, missing = walk.filled(here, each.of)
        if not isinstance(items, list):
            walk.stuck(here, f"There is no list to go through: {', '.join(missing) or each.of} has no value. Correct the record, then continue.")
        if len(items) > MOST_ELEMENTS:
            walk.stuck(here, f"The list has {len(items)} elements; at most {MOST_ELEMENTS} are gone through.")
        if not items:
            walk.go_on(here, [])
            return
        walk.hold(here.path, Loop(tuple(items)))
        self._begin(walk, here, each.at_once or len(items))

    def _begin(self, walk: Walk, here: Here, count: int) -> None:
        """Begin with so many elements more."""
        loop, each = walk.held[here.path], here.step.parameters
        until = min(len(loop.items), loop.begun + count)
        walk.hold(here.path, replace(loop, begun=until))
        name, counted, steps, items = each.name, f"{each.name}_number", tuple(each.steps), loop.items
        for number in range(until, loop.begun, -1):  # what is begun last is walked first
            walk.inside(here, str(number), steps, {name: items[number - 1], counted: Decimal(number)})

    def through(self, walk: Walk, here: Here, label: str, given: dict[str, Any]) -> None:
        walk.hold(here.block(label), given)
        self._one_less(walk, here, walk.held[here.path])

    def refused(self, walk: Walk, here: Here, block: Frame, reason: str) -> bool:
        walk.leave(block.prefix)
        walk.hold(block.prefix, {"refused": reason})
        loop = walk.held[here.path]
        self._one_less(walk, here, replace(loop, refused=loop.refused.set(int(block.label), reason)))
        return True

    def failed(self, walk: Walk, here: Here, block: Frame, reason: str) -> Dealt:
        if here.step.parameters.on_failure == "stop":
            return "around"
        if here.step.parameters.on_failure == "gather":
            loop = walk.held[here.path]
            if loop.begun < len(loop.items):
                self._begin(walk, here, 1)  # in the place of the one that is set aside
            return "person"
        self._without(walk, here, block, reason)
        return "dealt"

    def left(self, walk: Walk, here: Here, block: Frame, reason: str) -> bool:
        if here.step.parameters.on_failure != "gather":
            return False
        self._without(walk, here, block, reason)
        return True

    def _without(self, walk: Walk, here: Here, block: Frame, reason: str) -> None:
        """Go on without an element, and tell so."""
        walk.leave(block.prefix)
        walk.hold(block.prefix, {"failed": reason})
        loop = walk.held[here.path]
        self._one_less(walk, here, replace(loop, failed=loop.failed.set(int(block.label), reason)))

    def _one_less(self, walk: Walk, here: Here, loop: Loop) -> None:
        """An element is through; after the last one the run goes on, unless all were refused."""
        loop = replace(loop, through=loop.through + 1)
        count = len(loop.items)
        if loop.through < count:
            walk.hold(here.path, loop)
            if loop.begun < count:
                self._begin(walk, here, 1)
            return
        walk.drop(here.path)
        given = [walk.drop(here.block(str(number))) for number in range(1, count + 1)]
        if len(loop.refused) == count:
            walk.refuse(here.frame, _told(loop.refused))
            return
        for what, reasons in (("refused", loop.refused), ("not gone through", loop.failed)):
            if reasons:
                walk.tell(f"{len(reasons)} of {count} {'was' if len(reasons) == 1 else 'were'} {what}: {_told(reasons)}")
        walk.go_on(here, given)


def _told(reasons: Map[int, str]) -> str:
    """Reasons in the order of the list, each once."""
    return "; ".join(dict.fromkeys(reasons[number] for number in sorted(reasons)))


def _element(parameters: Each, around: Around) -> Schema | None:
    given = around.schema_of(parameters.of)
    return given.get("items", ANYTHING) if given else ANYTHING


def _names(parameters: Each, around: Around, block: str) -> Mapping[str, Schema | None]:
    return {parameters.name: _element(parameters, around), f"{parameters.name}_number": {"type": "integer"}}


def _once_only(parameters: Each, around: Around) -> Iterable[Said]:
    """Rows written for each element under one key: all but the first would be taken for it."""
    for number, step in enumerate(parameters.steps):
        if not isinstance(step, Step) or not step.kind.gathered:
            continue
        key = step.plain.get("key")
        try:
            used = {path[0] for _, text in expressions(key) for path in names(parse(text))}
        except BadExpression:
            continue
        inside = {parameters.name, f"{parameters.name}_number", *(each.name for each in parameters.steps[:number])}
        if key and not used & inside:
            yield (
                f"steps/{number}/{step.kind.name}/key",
                f"The key of {step.name!r} is the same for every element, so that only one row would be written; add ${{{parameters.name}_number}}.",
            )


def _check(parameters: Each, around: Around) -> Iterable[Said]:
    if "${" not in parameters.of:
        yield "of", "It must be a list, such as ${checked.record.lines}."
    elif (given := around.schema_of(parameters.of)) and given.get("type") in ("object", "string", "number", "integer", "boolean"):
        yield "of", f"It is no list, but {given['type']}; give one, such as ${{checked.record.lines}}."
    yield from _once_only(parameters, around)
    for name in (parameters.name, f"{parameters.name}_number"):
        if name in around.scope:
            yield "as", f"The name {name!r} is taken already; choose another."


def _tell(parameters: Each) -> str:
    at_once = f", {parameters.at_once} at a time" if parameters.at_once else ""
    return f"For each {parameters.name} of {shown(parameters.of)}{at_once}:"


SAMPLE = """\
each:
  of: ${checked.record.lines}
  as: line
  steps: [{name: row, write: {to: ledger, key: ["${item.id}", "${line_number}"], columns: {What: "${line.description}"}}}]
"""
KIND = Kind(
    "each",
    Each,
    result=lambda parameters, around: {"type": "array", "items": {}},
    check=_check,
    names=_names,
    control=_GoingThrough(),
    tell=_tell,
    sample=SAMPLE,
)
