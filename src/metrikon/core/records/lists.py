"""Lists of known values: whether a value is on one, which is nearest to it, and what else its row says.

A field with `lookup`: {list, by, column} under `x-metrikon` takes its value from a list: from the row whose first column is the
value at the pointer `by`, out of the column with that head (a card's last figures → the account it belongs to). Such a field is
asked of no model. In rows, `by` may point into the same row: `/lines/*/number`.
"""

from __future__ import annotations

import difflib
from collections import Counter
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any

from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import get, leaves, shape
from metrikon.core.records.types import Field, RecordType
from metrikon.core.values.numbers import parse_number
from metrikon.core.values.sounding import sound
from metrikon.core.values.text import fold

LIKE = 0.72  # of 1: from here on a known value is named as what may be meant
COMPARED = 40  # known values that share most with a value and are compared with it
SHORTEST_SOUND, APART = 4, 0.25  # sounds of a name that is told by them, and share of them that may be others
PIECE = 3  # letters by which they are found


class KnownList:
    """The rows of a list; the first column holds its values, the first row its heads where it has several columns."""

    def __init__(self, name: str, rows: Sequence[Sequence[str]]) -> None:
        self.name = name
        self.rows = [tuple(cell.strip() for cell in row) for row in rows if row and row[0].strip()]

    @cached_property
    def heads(self) -> tuple[str, ...]:
        return self.rows[0] if self.rows and len(self.rows[0]) > 1 else ()

    @cached_property
    def _by_form(self) -> dict[str, int]:
        found: dict[str, int] = {}
        for number, row in enumerate(self.rows):
            found.setdefault(_form(row[0]), number)
        return found

    def holds(self, value: Any) -> bool:
        """Whether a value is on the list, whatever its case and accents."""
        return _form(value) in self._by_form

    def nearest(self, value: Any) -> str | None:
        """The known value that may be meant by one that is not on the list."""
        form = _form(value)
        shared: Counter[str] = Counter(known for piece in _pieces(form) for known in self._by_piece.get(piece, ()))
        near = difflib.get_close_matches(form, [known for known, _ in shared.most_common(COMPARED)], 1, LIKE)
        return self.rows[self._by_form[near[0]]][0] if near else None

    def sounds_like(self, value: Any) -> str | None:
        """The one known value that sounds like one that was heard; None where none does, or several do."""
        key = sound(str(value))
        if len(key) < SHORTEST_SOUND:
            return None
        near = sorted(((_apart(key, other), form) for other, form in self._by_sound), key=lambda each: each[0])[:2]
        if not near or near[0][0] > APART * len(key) or (len(near) > 1 and near[1][0] <= near[0][0]):
            return None
        return self.rows[self._by_form[near[0][1]]][0]

    @cached_property
    def _by_sound(self) -> list[tuple[str, str]]:
        return [(sound(form), form) for form in self._by_form]

    @cached_property
    def _by_piece(self) -> dict[str, list[str]]:
        found: dict[str, list[str]] = {}
        for form in self._by_form:
            for piece in _pieces(form):
                found.setdefault(piece, []).append(form)
        return found

    def beside(self, value: Any, column: str) -> str | None:
        """What stands in a column, by its head, of the row of a value; None when there is nothing."""
        at = next((n for n, head in enumerate(self.heads) if fold(head) == fold(column)), None)
        number = self._by_form.get(_form(value))
        row = self.rows[number] if number is not None else ()
        return row[at] or None if at is not None and at < len(row) else None


def _apart(one: str, two: str) -> int:
    """How many sounds must be put in, left out or changed to make one of the other (Levenshtein's distance)."""
    if abs(len(one) - len(two)) > APART * len(one):
        return len(one)
    before = list(range(len(two) + 1))
    for row, a in enumerate(one, 1):
        now = [row]
        for column, b in enumerate(two, 1):
            now.append(min(before[column] + 1, now[-1] + 1, before[column - 1] + (a != b)))
        before = now
    return before[-1]


Lists = Callable[[str], KnownList | None]


def _form(value: Any) -> str:
    return fold(str(value).strip())


def _pieces(form: str) -> set[str]:
    return {form[at : at + PIECE] for at in range(max(1, len(form) - PIECE + 1))}


def known_values(kind: RecordType, record: Mapping[str, Any], lists: Lists) -> Iterator[Finding]:
    """Findings for values that are on no list of known ones, and for values that are not what a list says."""
    if not kind.has_lists:
        return
    for pointer, value in leaves(dict(record)):
        field = kind.by_shape.get(shape(pointer))
        if field is None or value is None:
            continue
        if "list" in field.ours:
            yield from _unlisted(field, pointer, value, lists)
        if field.lookup:
            yield from _otherwise(field, pointer, value, record, lists)
    for field, pointer in _open(kind, record):
        by, asked = get(record, _beside(field, pointer)), kind.by_shape[field.lookup["by"]]
        if by is not None and asked.ours.get("list") != field.lookup["list"]:  # else that value is told of already
            message = f"{field.title} is not known: {by} has no {field.lookup['column']} on the list {field.lookup['list']}."
            yield Finding("list", "stop" if field.required else "warn", message, (pointer,), {"looked up": str(by)})


def _unlisted(field: Field, pointer: str, value: Any, lists: Lists) -> Iterator[Finding]:
    name = str(field.ours["list"])
    known = lists(name)
    if known is None:
        yield Finding("list", "stop", f"{field.title}: there is no list {name!r}. Keep one, or take it out of the record type.", (pointer,))
    elif not known.holds(value):
        near = known.nearest(value)
        meant = f" Is {near} meant?" if near else ""
        compared = {"read": str(value), **({"known": near} if near else {})}
        level = str(field.ours.get("unknown", "stop"))
        yield Finding("list", level, f"{field.title} {value} is not on the list {name}.{meant}", (pointer,), compared)


def _otherwise(field: Field, pointer: str, value: Any, record: Mapping[str, Any], lists: Lists) -> Iterator[Finding]:
    by, name = get(record, _beside(field, pointer)), str(field.lookup["list"])
    known = lists(name)
    said = _fitted(field, known.beside(by, field.lookup["column"])) if known is not None and by is not None else None
    if said is not None and said != value:
        message = f"{field.title} is {value}, but the list {name} says {said} for {by}."
        yield Finding("list", "warn", message, (pointer,), {"given": str(value), "list": str(said)})


def filled(
    kind: RecordType, record: dict[str, Any], lists: Lists, kept: Collection[str] = (), before: Mapping[str, Evidence] | None = None
) -> tuple[dict[str, Any], dict[str, Evidence]]:
    """The record with what lists say of its fields with `lookup`, and the evidence of those.

    `kept`: pointers that a person set. `before`: evidence of an earlier reading; what a list said then and says no more goes.
    """
    if not any(field.lookup for field in kind.fields):
        return record, {}
    record = {
        name: [dict(row) if isinstance(row, dict) else row for row in part] if isinstance(part, list) else part for name, part in record.items()
    }
    evidence: dict[str, Evidence] = {}
    for field, pointer in _looked_up(kind, record):
        if pointer in kept:
            continue
        name, by = str(field.lookup["list"]), get(record, _beside(field, pointer))
        known = lists(name)
        value = _fitted(field, known.beside(by, field.lookup["column"])) if known is not None and by is not None else None
        home = get(record, pointer.rpartition("/")[0]) if pointer.count("/") > 1 else record
        if not isinstance(home, dict):
            continue
        if value is not None:
            home[field.name] = value
            evidence[pointer] = Evidence("list", quote=f"{by} on the list {name}")
        elif before and pointer in before and before[pointer].how == "list":
            home.pop(field.name, None)
    return {name: record[name] for name in kind.schema["properties"] if name in record}, evidence


def by_sound(kind: RecordType, record: Mapping[str, Any], lists: Lists) -> Iterator[tuple[str, str]]:
    """Values of a record that was heard which are on no list of known ones and sound like one of them: where they stand, and the known value."""
    for pointer, value in leaves(dict(record)):
        field = kind.by_shape.get(shape(pointer))
        known = lists(str(field.ours["list"])) if field is not None and "list" in field.ours and isinstance(value, str) else None
        if known is not None and not known.holds(value) and (meant := known.sounds_like(value)) is not None:
            yield pointer, meant


def _looked_up(kind: RecordType, record: Mapping[str, Any]) -> Iterator[tuple[Field, str]]:
    """Every place where a field with `lookup` stands or would stand."""
    for field in kind.fields:
        if not field.lookup:
            continue
        head, star, tail = field.shape.partition("/*/")
        rows = get(record, head) if star else None
        if not star:
            yield field, field.shape
        elif isinstance(rows, list):
            yield from ((field, f"{head}/{number}/{tail}") for number, row in enumerate(rows) if isinstance(row, dict))


def _open(kind: RecordType, record: Mapping[str, Any]) -> Iterator[tuple[Field, str]]:
    return ((field, pointer) for field, pointer in _looked_up(kind, record) if get(record, pointer) is None)


def _beside(field: Field, pointer: str) -> str:
    """The pointer of the value by which a field is looked up: in the same row, where it points into rows."""
    by = str(field.lookup["by"])
    number = next((part for part in pointer.split("/") if part.isdecimal()), "")
    return by.replace("/*/", f"/{number}/") if number else by


def _fitted(field: Field, text: str | None) -> Any:
    """A cell of a list by the type of its field."""
    return parse_number(text) if text is not None and field.kind == "amount" else text
