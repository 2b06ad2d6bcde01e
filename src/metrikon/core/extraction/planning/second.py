"""A second, independent reading of what is decided: closed questions, put without the first answer. Where the two differ a person must look.

A turned yes/no or another option cannot be told from a true one by one reading: all of them can be said of the same words. Which
fields are read twice is found from their manner (yes/no and options), or set under `x-metrikon` as `readings` (1 or 2).
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from metrikon.core.extraction.indexing.index import Index, squeezed
from metrikon.core.extraction.planning import prompt
from metrikon.core.extraction.planning.asking import SECOND, Asking, Request
from metrikon.core.records.findings import Finding
from metrikon.core.records.manner import DECIDED
from metrikon.core.records.pointers import get
from metrikon.core.records.types import Field, RecordType, resolved

SHORTEST_KEY = 2  # letters of a text by which rows of two readings are paired


def twice(field: Field) -> bool:
    """Whether a field is to be read twice where a second reading is set."""
    given = field.ours.get("readings")
    return given == 2 if given else field.manner == DECIDED and field.kind in ("yes/no", "choice")


def ask_again(kind: RecordType, index: Index, record: Mapping[str, Any], asking: Asking) -> Iterator[Request]:
    """The questions of the second reading; none when no field is to be read twice, or no row of a list was found."""
    header = [each for each in kind.header if twice(each)]
    lists = {p: (_key(fields), [f for f in fields if twice(f)]) for p, fields in kind.lists.items() if p.count("/") == 1 and record.get(p[1:])}
    lists = {p: (key, fields) for p, (key, fields) in lists.items() if fields}
    if not header and not lists:
        return
    properties: dict[str, Any] = {each.shape.split("/")[1]: prompt.nullable(kind.schema, _part(kind, each.shape.split("/")[1])) for each in header}
    for pointer, (key, fields) in lists.items():
        row = {each.name: prompt.nullable(kind.schema, each.schema) for each in ([key] if key else []) + fields}
        properties[pointer[1:]] = {"type": "array", "items": _object(row)}
    lines = prompt.question_lines(header, lists, index)
    for number, part in enumerate(prompt.parts(index, {}, asking.room)):
        messages = prompt.second_messages(lines, part.text, asking.context)
        yield Request(SECOND, "what is decided, read a second time", messages, _object(properties), number, pages=part.pages)


def _part(kind: RecordType, name: str) -> Mapping[str, Any]:
    return resolved(kind.schema, kind.schema["properties"][name])


def _key(fields: Sequence[Field]) -> Field | None:
    """The field by which a person tells one row from another."""
    return next((each for each in fields if each.copied and each.kind == "text"), None)


def _object(properties: dict[str, Any]) -> dict[str, Any]:
    return {"type": "object", "properties": properties, "required": list(properties), "additionalProperties": False}


def differing(kind: RecordType, record: Mapping[str, Any], answers: Sequence[Mapping[str, Any]]) -> list[Finding]:
    """Fields of which the second reading says something else, or nothing."""
    if not answers:
        return []
    found: list[Finding] = []
    for each in kind.header:
        if twice(each):
            said = next((value for answer in answers if (value := get(answer, each.shape)) is not None), None)
            found += _compared(kind, each.shape, each, get(record, each.shape), said)
    for pointer, fields in kind.lists.items():
        decided = [each for each in fields if twice(each)]
        rows = record.get(pointer[1:]) if decided and pointer.count("/") == 1 else None
        if isinstance(rows, list):
            others = [row for answer in answers for row in answer.get(pointer[1:]) or () if isinstance(row, Mapping)]
            key = _key(fields)
            for number, row in enumerate(rows):
                other = _paired(rows, number, others, key)
                if other is not None:
                    for each in decided:
                        found += _compared(kind, f"{pointer}/{number}/{each.name}", each, row.get(each.name), other.get(each.name))
    return found


def _paired(rows: Sequence[Any], number: int, others: Sequence[Mapping[str, Any]], key: Field | None) -> Mapping[str, Any] | None:
    if len(others) == len(rows):
        return others[number]
    wanted = squeezed(str(rows[number].get(key.name) or "")) if key else ""
    same = [row for row in others if key and squeezed(str(row.get(key.name) or "")) == wanted]
    return same[0] if len(wanted) >= SHORTEST_KEY and len(same) == 1 else None


def _compared(kind: RecordType, pointer: str, field: Field, first: Any, second: Any) -> Iterator[Finding]:
    if first == second or (first in (None, False) and second in (None, False)):
        return
    message = f"{kind.titled(pointer)} was read as {_plain(first)}, and as {_plain(second)} by the second reading."
    yield Finding("readings differ", "stop", message, (pointer,), {"first": _plain(first), "second": _plain(second)})


def _plain(value: Any) -> str:
    return "nothing" if value is None else {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)
