"""What may stand under `x-metrikon` in a record type: its form, as a JSON Schema of our own."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from jsonschema import Draft202012Validator

from metrikon.core.records.sound import quick

OURS = "x-metrikon"
_TEXT: dict[str, Any] = {"type": "string", "maxLength": 2000}
_TEXTS: dict[str, Any] = {"type": "array", "items": _TEXT, "maxItems": 1000}
_LEVEL: dict[str, Any] = {"enum": ["stop", "warn"]}
_POINTER: dict[str, Any] = {"type": "string", "pattern": "^/", "maxLength": 500}
_POINTERS: dict[str, Any] = {"type": "array", "items": _POINTER, "maxItems": 100}
_TOLERANCE: dict[str, Any] = {"type": "number", "minimum": 0}


def _all_of(*needed: str, **properties: Any) -> dict[str, Any]:
    return {"type": "array", "maxItems": 200, "items": {"type": "object", "properties": properties, "required": list(needed)}}


FORM: dict[str, Any] = {
    "type": "object",
    "properties": {
        "labels": _TEXTS,
        "means": {"type": "object", "additionalProperties": {"anyOf": [_TEXT, _TEXTS]}},
        "kind": _TEXT,
        "manner": _TEXT,
        "form": {**_TEXT, "maxLength": 1000},
        "terms": _TEXTS,
        "readings": {"type": "integer", "minimum": 1, "maximum": 9},
        "evidence": {"type": "boolean"},
        "list": _TEXT,
        "unknown": _LEVEL,
        "unsure": _LEVEL,
        "lookup": {"type": "object"},
        "derived": {"type": "object", "additionalProperties": _POINTER},
        "not_rows": _TEXTS,
        "key": _POINTERS,
        "alike": _POINTERS,
        "title": _POINTERS,
        "rate_between": {"type": "boolean"},
        "sums": _all_of("parts", "equals", parts=_POINTERS, equals=_POINTER, tolerance=_TOLERANCE, unless=_POINTER),
        "products": _all_of("list", "factors", "equals", list=_POINTER, factors=_POINTERS, equals=_POINTER, tolerance=_TOLERANCE, level=_LEVEL),
        "order": _all_of("first", "then", first=_POINTER, then=_POINTER),
        "rules": _all_of("holds", holds=_TEXT, message=_TEXT, fields=_POINTERS, level=_LEVEL, null_means={"type": ["boolean", "null"]}),
    },
}
_QUICK = quick(FORM)
_IN_WORDS = Draft202012Validator(FORM)


def misfit(schema: Mapping[str, Any]) -> str:
    """What is wrong with the form of what stands under `x-metrikon` of a part of a record type; empty when nothing is."""
    given = schema.get(OURS)
    if given is None or _QUICK.is_valid(given):
        return ""
    error = next(iter(_IN_WORDS.iter_errors(given)))
    place = "/".join([OURS, *map(str, error.absolute_path)])
    wanted = (
        {"type": f"it must be {error.validator_value}", "enum": f"it must be one of {', '.join(map(str, error.validator_value))}"}
        if isinstance(error.validator_value, list | str)
        else {}
    )
    told = {**wanted, "required": str(error.message), "pattern": "it must be a pointer such as /lines/*/amount"}
    return f"{place}: {told.get(str(error.validator), str(error.message)[:120])}"
