"""Results of steps with values that a person corrected, by their paths: `record.lines[2].amount`."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any


class NotThereIn(ValueError):
    """A path that is not in a result; the message says what is."""


def parts_of(path: str) -> list[str | int]:
    """The parts of a path within a result."""
    return [int(part) if part.isdecimal() else part for part in re.findall(r"[^.\[\]]+", path)]


def corrected(result: Any, path: str, value: Any) -> Any:
    """A result with another value at a path; of a context an entry that is not there yet, too. Raises `NotThereIn`."""
    return _with(result, parts_of(path), value, path)


def value_at(result: Any, path: str) -> Any:
    """What stands at a path of a result; None where nothing does."""
    for part in parts_of(path):
        if isinstance(part, int):
            result = result[part - 1] if isinstance(result, list) and 1 <= part <= len(result) else None
        else:
            result = result.get(part) if isinstance(result, Mapping) else None
    return result


def _with(at: Any, path: list[str | int], value: Any, whole: str) -> Any:
    if not path:
        return value
    part, rest = path[0], path[1:]
    if isinstance(part, int) and isinstance(at, list) and 1 <= part <= len(at):
        return [_with(each, rest, value, whole) if number == part else each for number, each in enumerate(at, 1)]
    if isinstance(at, Mapping) and isinstance(part, str) and (part in at or not rest):
        return {**at, part: _with(at.get(part), rest, value, whole)}
    held = f" It has {len(at)} elements." if isinstance(at, list) else f" Known there: {', '.join(map(str, at))}." if isinstance(at, Mapping) else ""
    raise NotThereIn(f"There is no {part} in {whole}.{held}")


def added(before: Mapping[str, Mapping[str, Any]], now: Mapping[str, Mapping[str, Any]]) -> dict[str, dict[str, Any]]:
    """Corrections and later ones, by the path of their step, then by that within its result, in the order in which they are put in.

    A later one takes the place of those at its path and beneath it; all others stay.
    """
    found = {head: dict(values) for head, values in before.items()}
    for head, values in now.items():
        kept = found.setdefault(head, {})
        for path, value in values.items():
            for each in [each for each in kept if _beneath(each, path)]:
                del kept[each]
            kept[path] = value
    return found


def _beneath(path: str, other: str) -> bool:
    """Whether a path is another one, or leads to a part of it."""
    parts, above = parts_of(path), parts_of(other)
    return parts[: len(above)] == above


def all_corrected(result: Any, values: Mapping[str, Any]) -> Any:
    """A result with values at their paths; a path that is not in it changes nothing."""
    for path, value in values.items():
        try:
            result = corrected(result, path, value)
        except NotThereIn:
            continue  # what it was found in is another result now
    return result
