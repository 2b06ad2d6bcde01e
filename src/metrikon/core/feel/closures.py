"""From a part of an expression to a closure of a scope and the evaluation that it is part of; each form has its maker, found by its type."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

from metrikon.core.feel import syntax as s
from metrikon.core.feel.running import Running
from metrikon.core.feel.scopes import Scope, Value

Worked = Callable[[Scope, Running], Value]
M = TypeVar("M", bound=Callable[[Any], Worked])
_MAKERS: dict[type[s.Part], Callable[[Any], Worked]] = {}


def makes(form: type[s.Part]) -> Callable[[M], M]:
    """Declare the maker of closures for a form."""

    def declare(maker: M) -> M:
        _MAKERS[form] = maker
        return maker

    return declare


def closure_of(part: s.Part) -> Worked:
    """The closure of a part."""
    return _MAKERS[type(part)](part)


def size_of(part: s.Part) -> int:
    """Of how many parts a part is made, itself among them: what a round through it costs."""
    return sum(1 for _ in s.whole(part))


def written(part: s.Part) -> str:
    """A part as people would name it, where it is a name or path; else three dots."""
    if isinstance(part, s.Name):
        return part.name
    if isinstance(part, s.Path):
        return ".".join((written(part.base), *part.names))
    return "…"
