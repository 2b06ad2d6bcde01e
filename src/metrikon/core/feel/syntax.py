"""What an expression is made of: one small struct for each form. `at` is the character that it begins with, from 0."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import msgspec


class Part(msgspec.Struct, frozen=True, kw_only=True):
    """A part of an expression."""

    at: int = 0


class Literal(Part, frozen=True):
    """A value as it is written."""

    value: Any


class AtLiteral(Part, frozen=True):
    """A date, time, date and time or duration after an @."""

    text: str


class Name(Part, frozen=True):
    """A name that is looked up in the scope."""

    name: str


class Path(Part, frozen=True):
    """Entries or properties, one after the other."""

    base: Part
    names: tuple[str, ...]


class Filter(Part, frozen=True):
    """Elements of a list: those for which a condition holds, or the one with a number."""

    base: Part
    test: Part


class Invocation(Part, frozen=True):
    """A function called with arguments by place or by name."""

    function: Part
    arguments: tuple[Part, ...] = ()
    named: tuple[tuple[str, Part], ...] = ()


class BuiltIn(Part, frozen=True):
    """A function of the language, by its name."""

    name: str


class ListOf(Part, frozen=True):
    """A list."""

    elements: tuple[Part, ...]


class Context(Part, frozen=True):
    """A context; later entries see earlier ones."""

    entries: tuple[tuple[str, Part], ...]


class RangeOf(Part, frozen=True):
    """A range; an end that is None has no limit."""

    low: Part | None
    high: Part | None
    low_open: bool
    high_open: bool


class If(Part, frozen=True):
    """One of two values, as a condition holds or not."""

    condition: Part
    then: Part
    otherwise: Part


class Iteration(msgspec.Struct, frozen=True):
    """A name that goes through a list, or from one number or date to another."""

    name: str
    source: Part
    until: Part | None = None


class For(Part, frozen=True):
    """A list of what comes of each round."""

    iterations: tuple[Iteration, ...]
    body: Part


class Quantified(Part, frozen=True):
    """`some` or `every`."""

    every: bool
    iterations: tuple[Iteration, ...]
    body: Part


class FunctionOf(Part, frozen=True):
    """A function defined in the expression; parameters with their types, or None."""

    parameters: tuple[tuple[str, str | None], ...]
    body: Part


class Or(Part, frozen=True):
    """Three-valued or."""

    parts: tuple[Part, ...]


class And(Part, frozen=True):
    """Three-valued and."""

    parts: tuple[Part, ...]


class Compare(Part, frozen=True):
    """Two values compared."""

    sign: str
    left: Part
    right: Part


class Between(Part, frozen=True):
    """A value between two others, both included."""

    value: Part
    low: Part
    high: Part


class In(Part, frozen=True):
    """A value put to tests, of which one must hold."""

    value: Part
    tests: tuple[Part, ...]


class Chain(Part, frozen=True):
    """Additions and subtractions, or multiplications and divisions, or powers, from left to right."""

    first: Part
    rest: tuple[tuple[str, Part], ...]


class Negative(Part, frozen=True):
    """A value with the other sign."""

    value: Part


class InstanceOf(Part, frozen=True):
    """Whether a value is of a type."""

    value: Part
    type: str


class Test(Part, frozen=True):
    """A unary test: a sign and what is compared with."""

    sign: str
    value: Part


class Tests(Part, frozen=True):
    """Unary tests of which one must hold; with `negated`, none. No tests (a dash): anything."""

    tests: tuple[Part, ...]
    negated: bool = False


def inner(part: Part) -> Iterator[Part]:
    """The parts that a part is directly made of, in order."""
    for name in part.__struct_fields__:
        yield from _parts(getattr(part, name))


def _parts(value: Any) -> Iterator[Part]:
    if isinstance(value, Part):
        yield value
    elif isinstance(value, Iteration):
        yield value.source
        if value.until is not None:
            yield value.until
    elif isinstance(value, tuple):
        for each in value:
            yield from _parts(each)


def whole(part: Part) -> Iterator[Part]:
    """A part and all within it."""
    waiting = [part]
    while waiting:
        here = waiting.pop()
        yield here
        waiting.extend(inner(here))
