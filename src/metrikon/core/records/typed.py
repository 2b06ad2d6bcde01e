"""Values that a person typed: names that a record type does not know are refused, figures are read once and in one way.

"1.784" is a thousand and more to some readers and less than two to others. The decimal mark of the document decides; where
the reader's own differs from it, or neither is known, the person is asked.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from decimal import Decimal
from typing import Any

from metrikon.core.records.pointers import escape, leaves, shape
from metrikon.core.records.types import RecordType
from metrikon.core.values.near import meant
from metrikon.core.values.numbers import parse_number
from metrikon.core.values.text import clean, name_key

MARKS = (".", ",")
MOST_TOLD = 5  # of what cannot be taken


class BadTyped(ValueError):
    """What a person typed cannot be taken: `problems` are its places, as JSON Pointers, each with what is wrong and what to do."""

    def __init__(self, problems: list[tuple[str, str]]) -> None:
        more = f" And {len(problems) - MOST_TOLD} more." if len(problems) > MOST_TOLD else ""
        super().__init__(" ".join(message for _, message in problems[:MOST_TOLD]) + more)
        self.problems = problems


def as_typed(kind: RecordType, values: Mapping[str, Any], before: Mapping[str, Any], document: str | None, reader: str | None) -> dict[str, Any]:
    """The values with figures that a person typed as numbers. `before`: the record as it stands, whose values nobody typed now.

    `document`, `reader`: the decimal mark of each, where it is known. Raises `BadTyped`.
    """
    standing = dict(leaves(before))
    problems = list(_unknown(kind, values, ""))
    found: dict[str, Decimal] = {}
    for pointer, value in leaves(values):
        if not isinstance(value, str) or standing.get(pointer) == value or not _takes_number(kind, pointer):
            continue
        try:
            number = number_typed(value, document, reader)
        except TwoReadings as error:
            problems.append((pointer, f"{kind.titled(pointer)}: {error}"))
            continue
        if number is not None:
            found[pointer] = number
    if problems:
        raise BadTyped(problems)
    made = _with(values, "", found)
    assert isinstance(made, dict)
    return made


class TwoReadings(ValueError):
    """A figure that can be read in two ways; the message says both, and how each is written without doubt."""

    def __init__(self, text: str, by_point: Decimal, by_comma: Decimal) -> None:
        large, small = max(by_point, by_comma, key=abs), min(by_point, by_comma, key=abs)
        super().__init__(f"{text} can be read as {large:,f} or as {small:f}. Write {large:f} for the one, {small:f}0 for the other.")


def number_typed(text: str, document: str | None, reader: str | None) -> Decimal | None:
    """The number that a person means by a text, None where it is none. Raises `TwoReadings`."""
    by_point, by_comma = (parse_number(clean(text), mark) for mark in MARKS)
    if by_point == by_comma or by_point is None or by_comma is None:
        return by_point if by_point is not None else by_comma
    marks = {mark for mark in (document, reader) if mark in MARKS}
    if len(marks) != 1:
        raise TwoReadings(text.strip(), by_point, by_comma)
    return by_point if marks == {"."} else by_comma


def _takes_number(kind: RecordType, pointer: str) -> bool:
    field = kind.by_shape.get(shape(pointer))
    given = field.schema.get("type", "string") if field is not None else "string"
    types = (given,) if isinstance(given, str) else given
    return "number" in types or "integer" in types


def _unknown(kind: RecordType, values: Any, pointer: str) -> Iterator[tuple[str, str]]:
    """Names that no field has, each with the nearest one that is known."""
    if isinstance(values, list):
        for number, part in enumerate(values):
            yield from _unknown(kind, part, f"{pointer}/{number}")
        return
    if not isinstance(values, dict):
        return
    names = kind.spellings.get(shape(pointer))
    if names is None:
        return  # an object that may hold any names
    for name, part in values.items():
        place = f"{pointer}/{escape(str(name))}"
        if name not in names.values() and name_key(str(name)) not in names:
            known = sorted(set(names.values()))
            where = f" in {kind.titled(pointer)}" if pointer else ""
            yield place, f"The record type {kind.name} has no field {str(name)[:60]!r}{where}{meant(str(name), known)} Known: {', '.join(known)}."
        else:
            yield from _unknown(kind, part, place)


def _with(value: Any, pointer: str, found: Mapping[str, Decimal]) -> Any:
    if isinstance(value, dict):
        return {name: _with(part, f"{pointer}/{escape(str(name))}", found) for name, part in value.items()}
    if isinstance(value, list):
        return [_with(part, f"{pointer}/{number}", found) for number, part in enumerate(value)]
    return found.get(pointer, value)
