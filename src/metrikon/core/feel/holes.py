"""Text with `${ … }` holes: a text that is one hole keeps the type of its value."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime, timezone
from functools import lru_cache
from typing import Any
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from metrikon.core.feel.compile import evaluate
from metrikon.core.feel.lexer import BadExpression
from metrikon.core.feel.values import plain, text_of

LONGEST_MOMENT = 100  # characters of a date with a time and the name of its zone


@dataclass(frozen=True)
class Hole:
    """One hole: the expression in it."""

    expression: str


@lru_cache(maxsize=4096)
def holes(text: str) -> tuple[str | Hole, ...]:
    """The plain parts and holes of a text, in order. Raises `BadExpression` for a hole left open."""
    parts: list[str | Hole] = []
    at = 0
    while (start := text.find("${", at)) >= 0:
        if start > at:
            parts.append(text[at:start])
        end = hole_end(text, start + 2)
        parts.append(Hole(text[start + 2 : end].strip()))
        at = end + 1
    if at < len(text):
        parts.append(text[at:])
    return tuple(parts)


def hole_end(text: str, at: int) -> int:
    """Where a hole ends whose expression begins at a place. Raises `BadExpression` for one left open."""
    depth, quoted = 0, False
    while at < len(text):
        character = text[at]
        if quoted:
            at += character == "\\"
            quoted = character != '"'
        elif character == '"':
            quoted = True
        elif character == "{":
            depth += 1
        elif character == "}":
            if depth == 0:
                return at
            depth -= 1
        at += 1
    raise BadExpression(f"A hole is opened with ${{ but not closed in {text[:60]!r}.")


def fill(
    value: Any, scope: Mapping[str, Any], missing: list[str] | None = None, moment: datetime | None = None, made: Callable[[Any], Any] | None = None
) -> Any:
    """A parameter with its holes filled, in lists and objects too; dates and the like as the texts they are kept as.

    `made`: what is made of the value of each hole before it is put in, such as `outside`.
    """
    if isinstance(value, str):
        parts = holes(value) if "${" in value else (value,)
        if len(parts) == 1 and isinstance(parts[0], Hole):
            found = evaluate(parts[0].expression, scope, missing, moment)
            return plain(found if made is None else made(found))
        return "".join(part if isinstance(part, str) else _text(part, scope, missing, moment, made) for part in parts)
    if type(value) is dict or isinstance(value, Mapping):
        return {name: fill(part, scope, missing, moment, made) for name, part in value.items()}
    return [fill(part, scope, missing, moment, made) for part in value] if isinstance(value, list) else value


def _text(hole: Hole, scope: Mapping[str, Any], missing: list[str] | None, moment: datetime | None, made: Callable[[Any], Any] | None) -> str:
    found = evaluate(hole.expression, scope, missing, moment)
    return text_of(found if made is None else made(found)) or ""


_ZONED = re.compile(r"(\d{4,}-\d\d-\d\dT\d\d:\d\d:\d\d(?:\.\d{1,6})?)@([A-Za-z]+(?:/[A-Za-z_+-]+){0,2})")


def outside(value: Any) -> Any:
    """A value for the world outside, which knows no names of zones: a date with a time has the offset that its zone has then (RFC 3339).

    So has a text that is written as such a date with a time is kept.
    """
    if isinstance(value, datetime) and isinstance(value.tzinfo, ZoneInfo):
        offset = value.utcoffset()
        return value.replace(tzinfo=timezone(offset)) if offset is not None else value
    if isinstance(value, str):
        return _with_offset(value) if len(value) < LONGEST_MOMENT and "@" in value else value
    if isinstance(value, list):
        return [outside(each) for each in value]
    return {name: outside(each) for name, each in value.items()} if isinstance(value, Mapping) else value


def _with_offset(text: str) -> str:
    told = _ZONED.fullmatch(text)
    if told is None:
        return text
    try:
        moment = datetime.fromisoformat(told.group(1)).replace(tzinfo=ZoneInfo(told.group(2)))
    except (ValueError, ZoneInfoNotFoundError):
        return text
    return text_of(outside(moment)) or text


def fill_text(text: str, scope: Mapping[str, Any], moment: datetime | None, made: Callable[[str], str]) -> str:
    """A text with its holes filled, what comes in each of them `made` into something harmless there."""
    parts = holes(text) if "${" in text else (text,)
    return "".join(part if isinstance(part, str) else made(text_of(outside(evaluate(part.expression, scope, None, moment))) or "") for part in parts)


def expressions(value: Any, place: str = "") -> Iterator[tuple[str, str]]:
    """(place, expression) of every hole in a parameter."""
    if isinstance(value, str) and "${" in value:
        yield from ((place, part.expression) for part in holes(value) if isinstance(part, Hole))
    elif isinstance(value, Mapping):
        for name, part in value.items():
            yield from expressions(part, f"{place}/{name}")
    elif isinstance(value, list):
        for number, part in enumerate(value):
            yield from expressions(part, f"{place}/{number}")
