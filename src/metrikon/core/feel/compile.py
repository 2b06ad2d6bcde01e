"""From the text of an expression to a function that is called often: compiled once, worked out for each scope.

Null comes where others would raise (DMN 1.5, 10.3.2); which name or call gave it is noted. What goes round in loops is counted as it goes, and so is
what is made.
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from functools import lru_cache
from typing import Any

from metrikon.core.feel import closures_of_calls, closures_of_conditions, closures_of_values
from metrikon.core.feel.closures import Worked, closure_of
from metrikon.core.feel.parse import parse, parse_tests
from metrikon.core.feel.running import Running
from metrikon.core.feel.scopes import Bound
from metrikon.core.feel.values import native

FORMS = (closures_of_values, closures_of_calls, closures_of_conditions)  # they declare how each form is compiled


@lru_cache(maxsize=4096)
def compiled(text: str) -> Worked:
    """The function of an expression. Raises `BadExpression`."""
    return closure_of(parse(text))


@lru_cache(maxsize=4096)
def compiled_tests(text: str) -> Worked:
    """The function of unary tests; the value that they are put to is in the scope as "?". Raises `BadExpression`."""
    return closure_of(parse_tests(text))


def evaluate(text: str, scope: Mapping[str, Any], missing: list[str] | None = None, moment: datetime | None = None) -> Any:
    """The value of an expression; numbers are `Decimal`. Names and calls that gave null are added to `missing`; `moment` is what `now()` gives.

    Raises `BadExpression` and `FeelError`.
    """
    return native(compiled(text)(scope, Running(moment, missing)))


def meets(tests: str, value: Any, scope: Mapping[str, Any], missing: list[str] | None = None, moment: datetime | None = None) -> bool | None:
    """Whether a value meets unary tests, such as "[1..5], > 10" or "-". Raises as `evaluate`."""
    found = compiled_tests(tests)(Bound({"?": native(value)}, scope), Running(moment, missing))
    return found if isinstance(found, bool) else None


__all__ = ["compiled", "compiled_tests", "evaluate", "meets"]
