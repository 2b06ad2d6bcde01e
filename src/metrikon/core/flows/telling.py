"""A flow in plain sentences: a numbered list that reads from top to bottom, branches under their condition, loops under their list."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from metrikon.core.flows.model import Flow, Step
from metrikon.core.flows.words import shown, told_duration


@dataclass(frozen=True)
class Line:
    """One line of the list. `number`: such as 3.1, empty for the head of a branch; `depth`: how far it is indented; `step`: empty for a head."""

    number: str
    depth: int
    step: str
    kind: str
    sentence: str
    more: tuple[str, ...] = ()


def told(flow: Flow) -> list[Line]:
    """The steps of a flow as sentences."""
    failure = flow.head.on_failure
    lines = list(_lines(flow.steps, "", 0))
    if failure is not None:
        lines += [Line("", 0, "", "", "If a step fails for good, once for each cause:"), *_lines(failure.steps, "f", 1)]
    return lines


def _lines(steps: Sequence[Step], before: str, depth: int) -> Iterator[Line]:
    for count, step in enumerate(steps, 1):
        number = f"{before}{count}"
        yield Line(number, depth, step.name, step.kind.name, sentence(step), tuple(_besides(step)))
        heads = list(step.kind.ways(step.parameters))
        for place, (_, name, block) in enumerate(step.blocks):
            if name == "on_failure":
                yield Line("", depth + 1, "", "", "If it fails:")
            elif place < len(heads) and heads[place]:
                yield Line("", depth + 1, "", "", heads[place])
            letter = chr(ord("a") + place) if len(step.blocks) > 1 else ""
            yield from _lines(block, f"{number}{letter}.", depth + 2 if heads or name == "on_failure" else depth + 1)


def sentence(step: Step) -> str:
    """A step in one sentence."""
    if step.kind.tell is not None:
        return step.kind.tell(step.parameters)
    given = ", ".join(f"{name} {shown(value)}" for name, value in step.plain.items() if value not in (None, "", [], {}))
    return f"{step.kind.name.capitalize()}{': ' + given if given else ''}."


def _besides(step: Step) -> Iterator[str]:
    """What holds for a step besides: its condition, its limit, what becomes of it when it fails."""
    common = step.common
    if common.when:
        yield f"Only when {common.when}."
    if common.until is not None:
        yield f"It is done again until {common.until.holds}, at most {common.until.times} times."
    if common.limit is not None:
        yield f"It takes at most {told_duration(common.limit)}."
    failure = common.on_failure
    if failure is not None:
        yield {
            "park": "When it fails for good, the run is parked.",
            "end": "When it fails for good, the run ends.",
            "go on": "When it fails for good, the run goes on.",
        }[failure.then]
