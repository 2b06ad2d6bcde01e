"""Parameters in words."""

from __future__ import annotations

from typing import Any

from metrikon.core.feel import BadExpression
from metrikon.core.feel.holes import Hole, holes


def shown(value: Any) -> str:
    """A parameter as people read it: holes as what stands in them, texts as they are."""
    if isinstance(value, str):
        try:
            return "".join(part.expression if isinstance(part, Hole) else part for part in holes(value))
        except BadExpression:
            return value
    if isinstance(value, list):
        return ", ".join(shown(each) for each in value)
    if isinstance(value, dict):
        return ", ".join(f"{name} {shown(each)}" for name, each in value.items())
    return {True: "yes", False: "no", None: "nothing"}.get(value, str(value)) if value is None or isinstance(value, bool) else str(value)
