"""The names in an expression: those that it takes from its scope, and the functions that it calls."""

from __future__ import annotations

from collections.abc import Iterator

from metrikon.core.feel import syntax as s
from metrikon.core.feel.functions import FUNCTIONS
from metrikon.core.feel.lexer import BadExpression
from metrikon.core.values.near import closest


def functions_known(part: s.Part, bound: frozenset[str]) -> None:
    """Only functions of the language are called, and those that the expression defines itself. Raises `BadExpression`."""
    if isinstance(part, s.Invocation) and isinstance(part.function, s.Name) and part.function.name not in bound:
        near = closest(part.function.name, FUNCTIONS)
        raise BadExpression(f"there is no function {part.function.name!r}{f'; is {near!r} meant?' if near else ''}", part.function.at)
    for each, within in _parts_with_names(part, bound):
        functions_known(each, within)


def _parts_with_names(part: s.Part, bound: frozenset[str]) -> Iterator[tuple[s.Part, frozenset[str]]]:
    """The parts within a part, each with the names that are bound for it."""
    if isinstance(part, s.For | s.Quantified):
        for each in part.iterations:
            yield each.source, bound
            if each.until is not None:
                yield each.until, bound
            bound = bound | {each.name}
        yield part.body, bound | {"partial"} if isinstance(part, s.For) else bound
    elif isinstance(part, s.FunctionOf):
        yield part.body, bound | {name for name, _ in part.parameters}
    elif isinstance(part, s.Context):
        for name, value in part.entries:
            yield value, bound
            bound = bound | {name}
    else:
        for within in s.inner(part):
            yield within, bound


def names(part: s.Part) -> Iterator[tuple[str, ...]]:
    """The names that an expression takes from its scope, each with the path that follows it; those within filters may be entries of elements."""
    yield from _names(part, frozenset())


def _names(part: s.Part, bound: frozenset[str]) -> Iterator[tuple[str, ...]]:
    if isinstance(part, s.Name):
        if part.name not in bound:
            yield (part.name,)
    elif isinstance(part, s.Path) and isinstance(part.base, s.Name):
        if part.base.name not in bound:
            yield (part.base.name, *part.names)
    elif isinstance(part, s.Filter):
        yield from _names(part.base, bound)  # within a filter, names are entries of the list's elements first
    else:
        for each, within in _parts_with_names(part, bound):
            yield from _names(each, within)
