"""What reading a document would take, before a model is paid: counted on the very requests that would be made."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import msgspec

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.asking import Asking
from metrikon.core.extraction.planning.plan import Plan
from metrikon.core.extraction.planning.second import ask_again
from metrikon.core.records.types import RecordType
from metrikon.core.values.exact import dumps

UNKNOWN = 12  # characters of a value that was not found beforehand and may stand there


class Estimate(msgspec.Struct, frozen=True):
    """Requests, and the characters of their prompts and answers; for each request the pages that a model that sees would be shown."""

    requests: int
    prompt: int
    answer: int
    pages: tuple[int, ...] = ()


def estimate(kind: RecordType, index: Index, plan: Plan, other: Mapping[str, Any], asking: Asking) -> Estimate:
    """The first requests of a plan, and those of the second reading; `other`: the record of a reading that costs nothing, which tells how long answers will be."""
    if not plan.asks:
        return Estimate(0, 0, 0)
    first = _first(kind, index, plan, other)
    again = list(ask_again(kind, index, other, asking)) if asking.second else []
    if not again:
        return first
    prompt = sum(len(message["content"]) for ask in again for message in ask.messages)
    answer = sum(len(msgspec.json.encode(ask.schema)) // 2 for ask in again)
    pages = tuple(len(ask.pages) for ask in again)
    return Estimate(first.requests + len(again), first.prompt + prompt, first.answer + answer, first.pages + pages)


def _first(kind: RecordType, index: Index, plan: Plan, other: Mapping[str, Any]) -> Estimate:
    prompt = sum(len(message["content"]) for ask in plan.asks for message in ask.messages)
    answer: dict[str, Any] = {}
    for name, schema in kind.schema["properties"].items():
        pointer = f"/{name}"
        if pointer in plan.lists:
            table = plan.tables.get(pointer)
            answer[name] = {"columns": {each.name: "x" * 8 for each in table.fields}} if table else _rows(kind, pointer, index)
        elif any(each.shape == pointer or each.shape.startswith(f"{pointer}/") for each in plan.header):
            required = name in kind.schema.get("required", ())
            answer[name] = other.get(name) or ("x" * UNKNOWN if required or "properties" in schema else None)
    return Estimate(len(plan.asks), prompt, len(dumps(answer)) * len(plan.asks), tuple(len(ask.pages) for ask in plan.asks))


def _rows(kind: RecordType, pointer: str, index: Index) -> list[dict[str, str]]:
    """Rows as long as they would be written out: one for every few lines with a figure."""
    lines = len({(page.number, segment.first) for page, segment in index.figured})
    names = [each.name for each in kind.fields if each.shape.startswith(f"{pointer}/*")]
    return [dict.fromkeys(names, "x" * 8)] * max(2, lines // max(2, len(names)))
