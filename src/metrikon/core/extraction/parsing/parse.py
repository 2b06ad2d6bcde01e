"""From the text of an answer to JSON: fences, prose, thoughts, brackets too few, and all that `lenient` takes.

What was changed is recorded; what cannot be understood is an error, never a blank.
"""

from __future__ import annotations

import json
import re
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from metrikon.core.extraction.parsing.lenient import DEEPEST, TooDeep, read_leniently

LONGEST = 2_000_000  # characters of an answer
MOST_BRACKETS = 200_000
TRIES = 4  # places at which an object may start
_FENCE = re.compile(r"```[a-zA-Z0-9]*[ \t]*\n?(.*?)(?:```|$)", re.DOTALL)
_THOUGHTS = re.compile(r"<think(?:ing)?>.*?(?:</think(?:ing)?>|$)", re.DOTALL | re.IGNORECASE)


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
    changes: list[str] = []
    body = _body(text, changes)
    if not body:
        raise NotUnderstood("The answer holds no JSON object." if text.strip() else "The answer is empty.")
    if _too_deep(body):
        raise NotUnderstood(f"The answer nests deeper than {DEEPEST} levels.")
    parsed = _exact(body, changes) or _lenient(body, changes)
    if parsed is None:
        raise NotUnderstood(f"The answer is no JSON: it starts with {body[:60]!r}.")
    if _echo(parsed.value):
        raise NotUnderstood("The answer repeats the JSON Schema instead of following it.")
    return parsed


def _body(text: str, changes: list[str]) -> str:
    """The part of the text that starts with a bracket, out of its fence and without thoughts."""
    stripped = text.strip().lstrip("\ufeff")
    if "<think" in stripped[:2000].lower():
        stripped = _THOUGHTS.sub("", stripped).strip()
        changes.append("What the model thought aloud was left out.")
    fence = _FENCE.search(stripped)
    if fence and ("{" in fence.group(1) or "[" in fence.group(1)):
        stripped = fence.group(1).strip()
        changes.append("The JSON was taken out of a fence.")
    starts = [at for at in (stripped.find("{"), stripped.find("[")) if at >= 0]
    if not starts:
        return ""
    at = stripped.find("{") if "{" in stripped and stripped.find("{") - min(starts) > 3 else min(starts)
    if at > 0:
        changes.append("Words before the JSON were left out.")
    return stripped[at:]


_DECODER = json.JSONDecoder(parse_float=Decimal, parse_constant=lambda _: None)


def _exact(body: str, changes: list[str]) -> Parsed | None:
    """The value when the text is JSON; nothing when it is not."""
    try:
        value, end = _DECODER.raw_decode(body)
    except (ValueError, RecursionError):
        return None
    if _more_keys_than(body[:end], value):
        return None  # a key given twice is told of
    rest = ["Words after the JSON were left out."] if body[end:].strip() else []
    nothing = ["NaN was read as no value."] if "NaN" in body[:end] or "Infinity" in body[:end] else []
    return Parsed(value, (*changes, *rest, *nothing), False)


def _lenient(body: str, changes: list[str]) -> Parsed | None:
    """The first object that can be made out; of several starts the one that says most."""
    best: tuple[int, Parsed] | None = None
    at = 0
    for _ in range(TRIES):
        try:
            value, end, told, cut = read_leniently(body, at)
        except TooDeep as error:
            raise NotUnderstood(str(error)) from error
        except ValueError:
            value, end, told, cut = None, at + 1, (), False
        size = len(value) if isinstance(value, dict | list) else 0
        named = isinstance(value, dict) and any(_is_name(key) for key in value)
        if (named or (isinstance(value, list) and any(isinstance(each, dict) for each in value))) and (best is None or size > best[0]):
            rest = ("Words after the JSON were left out.",) if body[end:].strip() and not cut else ()
            cut_off = ("The answer was cut off; what was whole was kept.",) if cut else ()
            best = (size, Parsed(value, (*changes, *told, *rest, *cut_off), cut))
        at = min((found for found in (body.find("{", max(end, at + 1)), body.find("[{", max(end, at + 1))) if found >= 0), default=-1)
        if at < 0:
            break
    if best is None and body.startswith(("{", "[")) and not body.strip("{[ \n\t"):
        return Parsed({}, (*changes, "The answer was cut off; what was whole was kept."), True)
    return best[1] if best else None


def _is_name(key: str) -> bool:
    return len(key) <= 80 and any(c.isalpha() for c in key)


def _more_keys_than(text: str, value: Any) -> bool:
    """Whether a text names more keys than its value has: some key was given twice."""
    return text.count('":') + text.count('" :') > _keys(value) > 0


def _keys(value: Any) -> int:
    if isinstance(value, dict):
        return len(value) + sum(_keys(part) for part in value.values())
    return sum(_keys(part) for part in value) if isinstance(value, list) else 0


def _echo(value: Any) -> bool:
    """Whether a value is the schema that was sent: types in the place of values."""
    inner = value.get("properties") if isinstance(value, dict) else None
    return isinstance(inner, dict) and any(isinstance(part, dict) and ("type" in part or "enum" in part) for part in inner.values())


def _too_deep(body: str) -> bool:
    if body.count("{") + body.count("[") > MOST_BRACKETS:
        return True
    deepest = level = 0
    for character in body:
        if character in "{[":
            level += 1
            deepest = max(deepest, level)
        elif character in "}]":
            level -= 1
    return deepest > DEEPEST
