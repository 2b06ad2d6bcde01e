"""choose: take the branch whose condition holds."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any, Literal

from pydantic import Field

from metrikon.core.feel import BadExpression, parse_tests
from metrikon.core.flows.around import Around
from metrikon.core.flows.form import Block, Condition, Form, OptionalBlock
from metrikon.core.flows.kind import Kind, Said, Steady
from metrikon.core.flows.words import shown

if TYPE_CHECKING:
    from metrikon.core.flows.walk import Here, Walk

OTHERWISE = "otherwise"


class Case(Form):
    """One branch: its steps are done when the condition holds."""

    when: Condition | None = Field(None, description="A FEEL condition.")
    meets: str | None = Field(None, alias="is", min_length=1, description='With `on`: unary tests of its value, such as "seed", "bulb" or [1..5].')
    null_means: bool | None = Field(None, description="What a condition that comes out null counts as; unset parks the run.")
    steps: Block = Field(..., description="What is done then.")


class Choose(Form):
    """Take the first branch whose condition holds, or all of them, one after the other; when none does, `otherwise`."""

    on: Any = Field(None, description="A value that the cases are told by, such as the outcome of a decision table.")
    take: Literal["first", "all"] = Field("first", description="Take the first branch whose condition holds, or every one.")
    cases: list[Case] = Field(..., min_length=1, description="The branches, in order.")
    otherwise: OptionalBlock = Field(default_factory=list, description="What is done when no condition holds.")


class _Choosing(Steady):
    def enter(self, walk: Walk, here: Here) -> None:
        choose = here.step.parameters
        value = walk.filled(here, choose.on)[0]
        found = []
        for number, case in enumerate(choose.cases, 1):
            if self._holds(walk, here, case, value):
                found.append(number)
                if choose.take == "first":
                    break
        if found:
            walk.hold(here.path, (tuple(found[1:]), {}))
            walk.inside(here, str(found[0]), choose.cases[found[0] - 1].steps)
        elif choose.otherwise:
            walk.hold(here.path, ((), {}))
            walk.inside(here, OTHERWISE, choose.otherwise)
        else:
            walk.go_on(here, {})

    def _holds(self, walk: Walk, here: Here, case: Case, value: Any) -> bool:
        if case.meets is None:
            return walk.holds(here, case.when or "null", case.null_means)
        return walk.meets(here, case.meets, value)

    def through(self, walk: Walk, here: Here, label: str, given: dict[str, Any]) -> None:
        left, before = walk.held[here.path]
        given = {**before, **given}
        if left:
            walk.hold(here.path, (left[1:], given))
            walk.inside(here, str(left[0]), here.step.parameters.cases[left[0] - 1].steps)
        else:
            walk.drop(here.path)
            walk.go_on(here, given)


def _check(parameters: Choose, around: Around) -> Iterable[Said]:
    for number, case in enumerate(parameters.cases):
        if (case.when is None) is (case.meets is None):
            yield f"cases/{number}", "Give it exactly one of `when` and `is`."
        elif case.meets is not None and parameters.on is None:
            yield f"cases/{number}/is", "It tests a value, but there is none: say under `on` which."
        elif case.meets is not None:
            try:
                parse_tests(case.meets)
            except BadExpression as error:
                yield f"cases/{number}/is", str(error)
    for number, case in enumerate(parameters.cases[:-1]):
        if case.when is not None and case.when.strip() == "true" and parameters.take == "first":
            yield f"cases/{number}", "It always holds, so the cases after it are never reached."


def _tell(parameters: Choose) -> str:
    on = f" by {shown(parameters.on)}" if parameters.on is not None else ""
    return f"Choose{on}: {'the first way whose condition holds' if parameters.take == 'first' else 'every way whose condition holds'}."


def _ways(parameters: Choose) -> list[str]:
    heads = [f"When it is {case.meets}:" if case.meets is not None else f"When {case.when}:" for case in parameters.cases]
    return [*heads, *(["Otherwise:"] if parameters.otherwise else [])]


SAMPLE = """\
choose:
  cases:
    - when: checked.record.total > 500
      steps: [{name: end, stop: {reason: It is for the trustees.}}]
"""
KIND = Kind(
    "choose",
    Choose,
    check=_check,
    control=_Choosing(),
    tell=_tell,
    ways=_ways,
    sample=SAMPLE,
)
