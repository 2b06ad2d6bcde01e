"""What a step's parameters and conditions come to where it stands: holes filled, conditions decided."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NoReturn

import msgspec

from metrikon.core.feel import BadExpression, FeelError, evaluate, fill, meets
from metrikon.core.feel.holes import outside
from metrikon.core.flows.kind import Missing
from metrikon.core.flows.model import Step
from metrikon.core.flows.state import Frame
from metrikon.core.flows.working import Working

KEY = "key"  # the parameter that tells what goes out from all others: it stays letter by letter as earlier versions made it


class Here(msgspec.Struct, frozen=True):
    """A step that is reached: the frame it stands in, and its path."""

    frame: Frame
    step: Step
    path: str

    def block(self, label: str) -> str:
        """The prefix of a block within it."""
        return f"{self.path}[{label}]/"


class CannotGoOn(Exception):
    """A step cannot be gone through; the message says why and what to do."""


class Evaluating(Working):
    """A state in the making, in which expressions are worked out."""

    def stuck(self, here: Here, reason: str) -> NoReturn:
        """The step cannot be gone through."""
        raise CannotGoOn(reason)

    def filled(self, here: Here, value: Any) -> tuple[Any, list[str]]:
        """Parameters with their holes filled, and the names that gave null."""
        missing: list[str] = []
        try:
            if here.step.kind.goes_out and isinstance(value, Mapping):
                made = {name: fill(part, here.frame.scope, missing, self.moment(), None if name == KEY else outside) for name, part in value.items()}
                return made, missing
            return fill(value, here.frame.scope, missing, self.moment()), missing
        except (BadExpression, FeelError) as error:
            self.stuck(here, f"A value could not be worked out: {error}")

    def missing(self, here: Here) -> Missing:
        """Of each parameter of a step the names in it that gave null."""
        plain = here.step.plain
        return lambda name: self.filled(here, plain.get(name) if isinstance(plain, Mapping) else plain)[1]

    def holds(self, here: Here, condition: str, null_means: bool | None, names: Mapping[str, Any] | None = None) -> bool:
        """Whether a condition holds; one that comes out null means what the flow says, and else the step cannot be gone through."""
        missing: list[str] = []
        try:
            found = evaluate(condition, here.frame.scope.update(names) if names else here.frame.scope, missing, self.moment())
        except (BadExpression, FeelError) as error:
            self.stuck(here, f"The condition {condition!r} could not be worked out: {error}")
        if found is None:
            found = null_means
        if not isinstance(found, bool):
            what = f"{', '.join(missing)} has no value" if missing else "it is neither true nor false"
            self.stuck(here, f"The condition {condition!r} came out null: {what}. Correct the record, or say in the flow what null means.")
        return found

    def meets(self, here: Here, tests: str, value: Any) -> bool:
        """Whether a value meets unary tests; one that cannot be put to them does not."""
        try:
            return meets(tests, value, here.frame.scope, None, self.moment()) is True
        except (BadExpression, FeelError) as error:
            self.stuck(here, f"The test {tests!r} could not be worked out: {error}")
