"""From the text of an answer to JSON: fences, prose, commas too many, brackets too few.

What was changed is recorded; what cannot be understood is an error, never a blank.
"""

from __future__ import annotations

import json
import re
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

LONGEST = 2_000_000  # characters of an answer
DEEPEST = 60
_FENCE = re.compile(r"```[a-zA-Z]*\s*\n?(.*?)(?:```|$)", re.DOTALL)
_TRAILING = re.compile(r",(\s*[}\]])")


class NotUnderstood(ValueError):
    """No JSON object could be found in the answer; the message says what was seen."""


@dataclass(frozen=True)
class Parsed:
    """What was found: the value, what was changed to read it, and whether the end was missing."""

    value: Any
    changes: tuple[str, ...]
    cut_off: bool


def parse_answer(text: str) -> Parsed:
    """The JSON in an answer. Raises `NotUnderstood`."""
    if len(text) > LONGEST:
        raise NotUnderstood(f"The answer has {len(text)} characters; at most {LONGEST} are read.")
    body, changes = _body(text)
    if not body:
        raise NotUnderstood("The answer holds no JSON object." if text.strip() else "The answer is empty.")
    try:
        value, end = _decoded(body)
    except NotUnderstood:
        raise  # too deep: mending it would take time without end
    except ValueError:
        return _mended(body, changes)
    if body[end:].strip():
        changes.append("Words after the JSON were left out.")
    return Parsed(value, tuple(changes), False)


def _body(text: str) -> tuple[str, list[str]]:
    """The part of the text that starts with a bracket, out of its fence."""
    changes = []
    stripped = text.strip()
    fence = _FENCE.search(stripped)
    if fence and ("{" in fence.group(1) or "[" in fence.group(1)):
        stripped = fence.group(1).strip()
        changes.append("The JSON was taken out of a fence.")
    starts = [at for at in (stripped.find("{"), stripped.find("[")) if at >= 0]
    if not starts:
        return "", changes
    at = stripped.find("{") if "{" in stripped and stripped.find("{") - min(starts) > 3 else min(starts)
    if at > 0:
        changes.append("Words before the JSON were left out.")
    return stripped[at:], changes


_DECODER = json.JSONDecoder(parse_float=Decimal, parse_constant=lambda _: None)


def _decoded(body: str) -> tuple[Any, int]:
    if body.count("{") + body.count("[") > 200_000 or _depth(body) > DEEPEST:
        raise NotUnderstood(f"The answer nests deeper than {DEEPEST} levels.")
    return _DECODER.raw_decode(body)


def _depth(body: str) -> int:
    deepest = level = 0
    for character in body:
        if character in "{[":
            level += 1
            deepest = max(deepest, level)
        elif character in "}]":
            level -= 1
    return deepest


def _mended(body: str, changes: list[str]) -> Parsed:
    mended = _TRAILING.sub(r"\1", body)
    if mended != body:
        try:
            value, _ = _decoded(mended)
            return Parsed(value, (*changes, "Commas before closing brackets were left out."), False)
        except NotUnderstood:
            raise
        except ValueError:
            pass
    closed = _closed(mended)
    if closed is not None:
        try:
            value, _ = _decoded(closed)
            return Parsed(value, (*changes, "The answer was cut off; what was whole was kept."), True)
        except ValueError:
            pass
    raise NotUnderstood(f"The answer is no JSON: it starts with {body[:60]!r}.")


def _closed(body: str) -> str | None:
    """A cut-off text up to its last whole value, with the open brackets closed."""
    stack: list[str] = []
    in_text = escaped = False
    safe, safe_stack = None, ""
    for at, character in enumerate(body):
        if in_text:
            escaped = character == "\\" and not escaped
            if character == '"' and not escaped:
                in_text = False
            continue
        if character == '"':
            in_text, escaped = True, False
        elif character in "{[":
            stack.append("}" if character == "{" else "]")
            safe, safe_stack = at + 1, "".join(reversed(stack))
        elif character in "}]":
            if not stack:
                return None
            stack.pop()
            safe, safe_stack = at + 1, "".join(reversed(stack))
        elif character == ",":
            safe, safe_stack = at, "".join(reversed(stack))
    return body[:safe] + safe_stack if safe is not None and stack else None
