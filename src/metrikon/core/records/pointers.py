"""JSON Pointer (RFC 6901): the address of a value in a record."""

from __future__ import annotations

import copy
from collections.abc import Mapping
from functools import lru_cache
from typing import Any


def escape(name: str) -> str:
    """One step of a pointer."""
    return name.replace("~", "~0").replace("/", "~1")


@lru_cache(maxsize=16384)
def steps(pointer: str) -> tuple[str, ...]:
    """The steps of a pointer; raises ValueError when it is none."""
    if pointer == "":
        return ()
    if not pointer.startswith("/"):
        raise ValueError(f"{pointer!r} is no JSON Pointer: it must start with /")
    return tuple(part.replace("~1", "/").replace("~0", "~") for part in pointer[1:].split("/"))


def leaves(value: Any, pointer: str = "") -> list[tuple[str, Any]]:
    """Every leaf with its pointer; empty lists and objects have none."""
    found: list[tuple[str, Any]] = []
    _leaves(value, pointer, found)
    return found


def _leaves(value: Any, pointer: str, found: list[tuple[str, Any]]) -> None:
    if isinstance(value, dict):
        for name, part in value.items():
            inner = f"{pointer}/{escape(name)}" if "/" in name or "~" in name else f"{pointer}/{name}"
            if isinstance(part, dict | list):
                _leaves(part, inner, found)
            else:
                found.append((inner, part))
    elif isinstance(value, list):
        for number, part in enumerate(value):
            _leaves(part, f"{pointer}/{number}", found)
    else:
        found.append((pointer, value))


def get(value: Any, pointer: str) -> Any:
    """The value at a pointer, or None when nothing is there."""
    if type(value) is dict and pointer[:1] == "/" and pointer[1:].isidentifier():
        return value.get(pointer[1:])  # one step, as most are
    for step in steps(pointer):
        if isinstance(value, dict):
            value = value.get(step)
        elif isinstance(value, list) and step.isdecimal() and int(step) < len(value):
            value = value[int(step)]
        else:
            return None
    return value


def with_values(record: Mapping[str, Any], values: Mapping[str, Any]) -> dict[str, Any]:
    """A copy of a record with some values, by pointer, in the place of others that are there."""
    made: dict[str, Any] = copy.deepcopy(dict(record))
    for pointer, value in values.items():
        *path, last = steps(pointer)
        spot: Any = made
        for step in path:
            spot = spot[int(step)] if isinstance(spot, list) else spot[step]
        if isinstance(spot, list):
            spot[int(last)] = value
        else:
            spot[last] = value
    return made


@lru_cache(maxsize=8192)
def shape(pointer: str) -> str:
    """A pointer with its list positions left open: /lines/3/amount → /lines/*/amount."""
    return "/".join("*" if part.isdecimal() else part for part in pointer.split("/"))
