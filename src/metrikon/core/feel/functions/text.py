"""Text functions (10.3.4.3). Patterns are tried by an engine whose time grows with the text alone: it knows no look-ahead and no back-reference."""

from __future__ import annotations

from decimal import Decimal
from functools import lru_cache
from typing import Any

import re2

from metrikon.core.feel.functions.declared import function, whole
from metrikon.core.feel.running import Running

LONGEST_PATTERN = 1000  # characters
MEMORY = 2 << 20  # bytes that a pattern may take


@function("string length", "string: text")
def _length(string: str) -> Decimal:
    return Decimal(len(string))


@function("upper case", "string: text")
def _upper(string: str) -> str:
    return string.upper()


@function("lower case", "string: text")
def _lower(string: str) -> str:
    return string.lower()


@function("substring", "string: text", "start position: number", "length?: number")
def _substring(string: str, start: Decimal, length: Decimal | None = None) -> str | None:
    first = whole(start.to_integral_value(rounding="ROUND_DOWN"))
    if not first or (length is not None and length < 1):
        return None
    at = first - 1 if first > 0 else max(0, len(string) + first)
    return string[at:] if length is None else string[at : at + int(length)]


@function("substring before", "string: text", "match: text")
def _before(string: str, match: str) -> str:
    at = string.find(match)
    return string[:at] if at > 0 else ""


@function("substring after", "string: text", "match: text")
def _after(string: str, match: str) -> str:
    at = string.find(match)
    return string[at + len(match) :] if at >= 0 else ""


@function("contains", "string: text", "match: text")
def _contains(string: str, match: str) -> bool:
    return match in string


@function("starts with", "string: text", "match: text")
def _starts(string: str, match: str) -> bool:
    return string.startswith(match)


@function("ends with", "string: text", "match: text")
def _ends(string: str, match: str) -> bool:
    return string.endswith(match)


@lru_cache(maxsize=512)
def _pattern(pattern: str, flags: str) -> Any:
    """A pattern compiled; None for one that the engine does not take, or flags that the standard does not know."""
    if len(pattern) > LONGEST_PATTERN or not set(flags) <= set("smix"):
        return None
    if "x" in flags:
        pattern = _without_blanks(pattern)
    known = "".join(sorted(set(flags) - {"x"}))
    options = re2.Options()
    options.log_errors = False
    options.max_mem = MEMORY
    try:
        return re2.compile(f"(?{known}){pattern}" if known else pattern, options)
    except re2.error:
        return None


def _without_blanks(pattern: str) -> str:
    """A pattern without its blanks, but for those in square brackets (XPath flag x)."""
    out, inside, at = [], False, 0
    while at < len(pattern):
        character = pattern[at]
        if character == "\\":
            out.append(pattern[at : at + 2])
            at += 2
            continue
        inside = character == "[" or (inside and character != "]")
        if inside or not character.isspace():
            out.append(character)
        at += 1
    return "".join(out)


@function("matches", "input: text", "pattern: text", "flags?: text")
def _matches(input: str, pattern: str, flags: str | None = None) -> bool | None:
    compiled = _pattern(pattern, flags or "")
    return None if compiled is None else compiled.search(input) is not None


@function("replace", "input: text", "pattern: text", "replacement: text", "flags?: text", running=True)
def _replace(running: Running, input: str, pattern: str, replacement: str, flags: str | None = None) -> str | None:
    compiled = _pattern(pattern, flags or "")
    parts = _parts_of(replacement, compiled.groups) if compiled is not None else None
    if compiled is None or parts is None:
        return None
    out, at = [], 0
    for match in compiled.finditer(input):
        if match.end() == match.start() and not match.group():
            return None  # a pattern that matches nothing replaces nothing (XPath: an error)
        made = "".join(part if isinstance(part, str) else match.group(part) or "" for part in parts)
        running.step()
        running.make(len(made) + match.start() - at)
        out += [input[at : match.start()], made]
        at = match.end()
    running.make(len(input) - at)
    return "".join([*out, input[at:]])


def _parts_of(replacement: str, groups: int) -> list[str | int] | None:
    r"""A replacement as texts and numbers of groups: $1 is a group, \$ and \\ are the characters."""
    parts: list[str | int] = []
    at = 0
    while at < len(replacement):
        character = replacement[at]
        if character == "\\":
            if replacement[at + 1 : at + 2] not in ("\\", "$"):
                return None
            parts.append(replacement[at + 1])
            at += 2
        elif character == "$":
            end = at + 1
            while (
                end < len(replacement)
                and replacement[end].isascii()
                and replacement[end].isdecimal()
                and int(replacement[at + 1 : end + 1]) <= max(groups, 9)
            ):
                end += 1
            if end == at + 1:
                return None
            number = int(replacement[at + 1 : end])
            parts.append(number if number <= groups else "")
            at = end
        else:
            parts.append(character)
            at += 1
    return parts


@function("split", "string: text", "delimiter: text", running=True)
def _split(running: Running, string: str, delimiter: str) -> list[str] | None:
    compiled = _pattern(delimiter, "")
    if compiled is None:
        return None
    out, at = [], 0
    running.make(len(string))
    for match in compiled.finditer(string):
        if match.end() == match.start():
            return None
        running.step()
        out.append(string[at : match.start()])
        at = match.end()
    return [*out, string[at:]]


@function("string join", "list: list", "delimiter?: text", running=True)
def _join(running: Running, list: list[Any], delimiter: str | None = None) -> str | None:
    texts = [each for each in list if each is not None]
    if not all(isinstance(each, str) for each in texts):
        return None
    between = delimiter or ""
    running.step(len(texts))
    running.make(sum(len(each) for each in texts) + len(between) * len(texts))
    return between.join(texts)
