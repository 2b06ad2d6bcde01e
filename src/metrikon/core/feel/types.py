"""Types by name: whether a value is of one (`instance of`, DMN 1.5, 10.3.2.9)."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from metrikon.core.feel.values import Function, Range, kind_of, native


def is_of(value: Any, name: str) -> bool:
    """Whether a value is of a type, such as number, list<string> or context<a: number>. Null is of the type Null alone."""
    if name == "Any":
        return value is not None
    outer, _, rest = name.partition("<")
    if kind_of(native(value)) != outer:
        return False
    if not rest:
        return True
    if isinstance(value, list):
        return all(is_of(native(each), rest[:-1]) for each in value)
    if isinstance(value, Range):
        return all(each is None or is_of(each, rest[:-1]) for each in (value.low, value.high))
    if isinstance(value, Mapping):
        return all(entry in value and is_of(native(value[entry]), kind) for entry, kind in _entries(rest[:-1]))
    return isinstance(value, Function) and len(value.parameters) == len(_parted(rest.rpartition(">->")[0]))


def _entries(written: str) -> list[tuple[str, str]]:
    return [(name, kind) for name, _, kind in (each.partition(": ") for each in _parted(written))]


def _parted(written: str) -> list[str]:
    """What stands between the commas that lie in no angle brackets."""
    found, depth, start = [], 0, 0
    for at, character in enumerate(written):
        depth += (character == "<") - (character == ">" and written[at - 1 : at] != "-")
        if character == "," and not depth:
            found.append(written[start:at].strip())
            start = at + 1
    return [*found, written[start:].strip()] if written.strip() else []
