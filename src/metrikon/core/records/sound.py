"""Whether a JSON Schema may be worked with at all: of a bounded size once its references are followed, and pointing nowhere but into itself.

A schema is a stranger's text. What is refused here: references outside (nothing is fetched, no file is opened), references that lead back to
where they stand, and few words that stand for many.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

import jsonschema_rs

MOST_PARTS = 20_000  # objects and lists, references followed
DEEPEST = 60  # objects and lists within each other, references followed
LONGEST_PATTERN = 1000  # characters
_POINTING = ("$ref", "$dynamicRef", "$recursiveRef")


class Unsound(ValueError):
    """A schema that is not worked with; the message says where and why."""


def check_sound(schema: Mapping[str, Any]) -> None:
    """Raises `Unsound`."""
    _Walk(schema).size(schema, "", 0)


def target(whole: Mapping[str, Any], reference: str) -> Any:
    """What a reference within a schema (RFC 6901, as a fragment) points to. Raises `Unsound`."""
    if reference != "#" and not reference.startswith("#/"):
        raise Unsound(f"The reference {reference!r} points outside the record type. Only #/… is followed.")
    place: Any = whole
    for step in reference[2:].split("/") if reference != "#" else ():
        name = step.replace("~1", "/").replace("~0", "~")
        if isinstance(place, list) and name.isdecimal() and int(name) < len(place):
            place = place[int(name)]
        else:
            place = place.get(name) if isinstance(place, dict) else None
    if not isinstance(place, dict | bool):
        raise Unsound(f"The reference {reference!r} points to nothing in the record type.")
    return place


class _Walk:
    """Goes once through each part of a schema, and reckons how many there are when references are followed."""

    def __init__(self, whole: Mapping[str, Any]) -> None:
        self.whole = whole
        self.sizes: dict[int, int] = {}
        self.under_way: set[int] = set()

    def size(self, part: Any, place: str, depth: int) -> int:
        """How many parts there are in a part of the schema."""
        if not isinstance(part, dict | list):
            return 0
        if depth > DEEPEST:
            raise Unsound(f"The record type nests deeper than {DEEPEST} levels at {place[:200] or '/'}.")
        if id(part) in self.sizes:
            return self.sizes[id(part)]
        if id(part) in self.under_way:
            raise Unsound(f"The record type refers to itself without end at {place[:200] or '/'}.")
        self.under_way.add(id(part))
        total = 1 + sum(self.size(each, f"{place}/{name}", depth + 1) for name, each in _parts(part))
        if isinstance(part, dict):
            total += self._pointed(part, place, depth)
        if total > MOST_PARTS:
            raise Unsound(f"The record type stands for more than {MOST_PARTS:,} parts once its references are followed, at {place[:200] or '/'}.")
        self.under_way.discard(id(part))
        self.sizes[id(part)] = total
        return total

    def _pointed(self, part: Mapping[str, Any], place: str, depth: int) -> int:
        if place and isinstance(part.get("$id"), str):
            raise Unsound(f"A part of the record type has an address of its own ($id) at {place[:200]}. Take it out.")
        for pattern in _patterns(part):
            if not usable(pattern):
                raise Unsound(
                    f"The pattern {pattern[:80]!r} at {place[:200] or '/'} cannot be used: it is no pattern, looks ahead, behind or back, or is too large."
                )
        return sum(self.size(target(self.whole, part[name]), f"{place}/{name}", depth + 1) for name in _POINTING if isinstance(part.get(name), str))


def _parts(part: Any) -> Iterable[tuple[Any, Any]]:
    return part.items() if isinstance(part, dict) else enumerate(part)


def _patterns(part: Mapping[str, Any]) -> list[str]:
    named = part.get("patternProperties")
    given = part.get("pattern")
    return [*([given] if isinstance(given, str) else ()), *(named if isinstance(named, dict) else ())]


def usable(pattern: str) -> bool:
    """Whether a pattern (ECMA 262, without looking ahead, behind or back) can be tried in time that grows with the text alone."""
    if len(pattern) > LONGEST_PATTERN:
        return False
    try:
        quick({"pattern": pattern})
    except (ValueError, jsonschema_rs.ValidationError):
        return False
    return True


def quick(schema: Mapping[str, Any]) -> Any:
    """Says whether a value holds a schema: fetches nothing, and tries patterns in time that grows with the text alone. Knows `Decimal`."""
    engine = jsonschema_rs.RegexOptions(size_limit=2_000_000, dfa_size_limit=2_000_000)
    return jsonschema_rs.Draft202012Validator(dict(schema), pattern_options=engine, offline=True)


def without_yes_and_no(part: Any) -> Any:
    """A schema with its parts `true` and `false` as objects that say the same, so that every part is one."""
    if not isinstance(part, dict):
        return part
    made = dict(part)
    for name in ("properties", "patternProperties", "$defs", "dependentSchemas"):
        if isinstance(made.get(name), dict):
            made[name] = {key: _as_object(each) for key, each in made[name].items()}
    for name in ("allOf", "anyOf", "oneOf", "prefixItems"):
        if isinstance(made.get(name), list):
            made[name] = [_as_object(each) for each in made[name]]
    for name in ("items", "contains", "not", "if", "then", "else", "propertyNames"):
        if name in made:
            made[name] = _as_object(made[name])
    return made


def _as_object(part: Any) -> Any:
    return without_yes_and_no(part if isinstance(part, dict) else {} if part is True else {"not": {}} if part is False else part)
