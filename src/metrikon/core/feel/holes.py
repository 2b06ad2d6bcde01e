"""Text with `${ … }` holes: a text that is one hole keeps the type of its value."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache
from typing import Any

from metrikon.core.feel.compile import evaluate
from metrikon.core.feel.lexer import BadExpression
from metrikon.core.feel.values import plain, text_of


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


def fill(value: Any, scope: Mapping[str, Any], missing: list[str] | None = None, moment: datetime | None = None) -> Any:
    """A parameter with its holes filled, in lists and objects too; dates and the like as the texts they are kept as."""
    if isinstance(value, str):
        parts = holes(value) if "${" in value else (value,)
        if len(parts) == 1 and isinstance(parts[0], Hole):
            return plain(evaluate(parts[0].expression, scope, missing, moment))
        return "".join(part if isinstance(part, str) else text_of(evaluate(part.expression, scope, missing, moment)) or "" for part in parts)
    if type(value) is dict or isinstance(value, Mapping):
        return {name: fill(part, scope, missing, moment) for name, part in value.items()}
    return [fill(part, scope, missing, moment) for part in value] if isinstance(value, list) else value


def fill_text(text: str, scope: Mapping[str, Any], moment: datetime | None, made: Callable[[str], str]) -> str:
    """A text with its holes filled, what comes in each of them `made` into something harmless there."""
    parts = holes(text) if "${" in text else (text,)
    return "".join(part if isinstance(part, str) else made(text_of(evaluate(part.expression, scope, None, moment)) or "") for part in parts)


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
