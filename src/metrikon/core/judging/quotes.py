"""What a judgement rests on, whatever was judged: what was said of what, and the words of the document for it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import msgspec


class Quote(msgspec.Struct, frozen=True):
    """What was said of a label, question, criterion or change (`name`), how sure, and the evidence as it is kept; None where nothing stands for it."""

    name: str
    said: str
    sure: float
    evidence: dict[str, Any] | None
    why: str = ""


def quotes(result: Mapping[str, Any]) -> Iterator[Quote]:
    """Everything that was said in the result of a step that judges."""
    for each in result.get("answers") or ():
        yield Quote(str(each["name"]), str(each["answer"]), float(each["sure"]), each.get("evidence"))
    for each in result.get("marks") or ():
        yield Quote(str(each["name"]), f"{each['mark']} of {each['of']}", float(each["sure"]), each.get("evidence"), str(each.get("reason") or ""))
    for number, each in enumerate(result.get("changes") or (), 1):
        said = f"{each['before'] or 'nothing'} → {each['after'] or 'nothing'}"
        name = f"{each['at'] or f'change {number}'}{'' if each['material'] else ' (does not matter)'}"
        yield Quote(name, said, float(result.get("sure") or 0), each.get("evidence"), str(each.get("why") or ""))
