"""How a function is declared: its name, its parameters with their types, and what it does.

A parameter is written "name: type"; with "?" after the name it may be left out, with "*" before it there may be many. Types: any, text, number,
boolean, list, context, date, time, moment (a date and time), day (a date, with or without a time), duration, months, function, point (what
ranges are made of), range. What does not fit a type gives null, as the standard has it; a list of one element stands for the element, and an
element for the list of it (10.3.2.9.4).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import Any, TypeVar

from metrikon.core.feel.running import Running
from metrikon.core.feel.values import ORDERED, Function, Months, Range, kind_of

Test = Callable[[Any], bool]
F = TypeVar("F", bound=Callable[..., Any])
TYPES: Mapping[str, Test] = {
    "any": lambda value: True,
    "text": lambda value: isinstance(value, str),
    "number": lambda value: isinstance(value, Decimal),
    "boolean": lambda value: isinstance(value, bool),
    "list": lambda value: isinstance(value, list),
    "context": lambda value: isinstance(value, Mapping),
    "date": lambda value: type(value) is date,
    "time": lambda value: isinstance(value, time),
    "moment": lambda value: isinstance(value, datetime),
    "day": lambda value: isinstance(value, date),
    "duration": lambda value: isinstance(value, timedelta),
    "months": lambda value: isinstance(value, Months),
    "function": lambda value: isinstance(value, Function),
    "point": lambda value: kind_of(value) in ORDERED,
    "range": lambda value: isinstance(value, Range),
}


@dataclass(frozen=True)
class Parameter:
    """One parameter of a function."""

    name: str
    type: str
    optional: bool = False
    many: bool = False


@dataclass(frozen=True)
class Signature:
    """One way to call a function. `running`: the function is given the evaluation first."""

    parameters: tuple[Parameter, ...]
    call: Callable[..., Any]
    running: bool = False

    def takes(self, count: int) -> bool:
        """Whether so many arguments can be given by place."""
        least = sum(not each.optional and not each.many for each in self.parameters)
        return least <= count and (count <= len(self.parameters) or any(each.many for each in self.parameters))

    def by_name(self, named: Mapping[str, Any]) -> list[Any] | None:
        """The arguments in order, for those given by name; None when the names do not fit."""
        known = {each.name for each in self.parameters}
        if not named.keys() <= known or any(each.name not in named and not each.optional for each in self.parameters):
            return None
        found = [named.get(each.name) for each in self.parameters]
        while found and self.parameters[len(found) - 1].name not in named:
            found.pop()
        return found

    def fitted(self, values: Sequence[Any]) -> list[Any] | None:
        """The arguments as their parameters want them; None when one does not fit."""
        found: list[Any] = []
        for number, value in enumerate(values):
            parameter = self.parameters[min(number, len(self.parameters) - 1)]
            if parameter.optional and value is None:
                found.append(None)
                continue
            test = TYPES[parameter.type]
            if not test(value):
                if parameter.type == "list" and value is not None:
                    value = [value]
                elif isinstance(value, list) and len(value) == 1 and test(value[0]):
                    value = value[0]
                else:
                    return None
            found.append(value)
        return found


FUNCTIONS: dict[str, list[Signature]] = {}


def function(name: str, *parameters: str, running: bool = False) -> Callable[[F], F]:
    """Declare a function of the language; declared again with other parameters, it has another way to be called."""

    def declare(call: F) -> F:
        FUNCTIONS.setdefault(name, []).append(Signature(tuple(_parameter(each) for each in parameters), call, running))
        return call

    return declare


def _parameter(written: str) -> Parameter:
    name, _, kind = written.partition(": ")
    return Parameter(name.strip("*?"), kind, name.endswith("?"), name.startswith("*"))


def whole(number: Decimal) -> int | None:
    """A number that is whole, and not so large that it stands for none; else None."""
    return int(number) if number == number.to_integral_value() and abs(number) < 10**15 else None


def call(name: str, running: Running, values: Sequence[Any]) -> Any:
    """What a function gives for arguments by place; null where they do not fit it."""
    for signature in FUNCTIONS[name]:
        if signature.takes(len(values)):
            fitted = signature.fitted(values)
            if fitted is not None:
                return signature.call(running, *fitted) if signature.running else signature.call(*fitted)
    return None


def call_named(name: str, running: Running, named: Mapping[str, Any]) -> Any:
    """As `call`, with arguments by name."""
    for signature in FUNCTIONS[name]:
        values = signature.by_name(named)
        fitted = signature.fitted(values) if values is not None else None
        if fitted is not None:
            return signature.call(running, *fitted) if signature.running else signature.call(*fitted)
    return None
