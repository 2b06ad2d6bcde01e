"""The words, numbers, texts and signs of an expression (DMN 1.5, 10.3.1.2)."""

from __future__ import annotations

import re
from collections.abc import Iterator

import msgspec

from metrikon.core.feel.habits import habit

KEYWORDS = frozenset(
    [
        "for",
        "return",
        "if",
        "then",
        "else",
        "some",
        "every",
        "satisfies",
        "in",
        "and",
        "or",
        "between",
        "instance",
        "of",
        "function",
        "external",
        "true",
        "false",
        "null",
    ]
)
_LEXEME = re.compile(
    r"""(?P<blank>(?:\s|//[^\n]*|/\*.*?\*/)+)
    |(?P<number>(?:\d+(?:\.\d+)?|\.\d+)(?:[eE][+-]?\d+)?)
    |(?P<text>"(?:\\.|[^"\\])*")
    |(?P<word>[^\W\d]\w*)
    |(?P<sign>\.\.|\*\*|!=|<=|>=|->|/(?!\*)|[-+*=<>()\[\]{},.:@?])""",
    re.X | re.S,
)
_ESCAPE = re.compile(r"\\(u[0-9A-Fa-f]{4}|U[0-9A-Fa-f]{6}|.)", re.S)
_ESCAPED = {"n": "\n", "r": "\r", "t": "\t", "'": "'", '"': '"', "\\": "\\"}


class BadExpression(ValueError):
    """An expression that cannot be read; the message shows where. `at`: the character, from 0."""

    def __init__(self, message: str, at: int = 0) -> None:
        super().__init__(message)
        self.at = at


class Lexeme(msgspec.Struct, frozen=True):
    """A word ("word", or "keyword"), "number", "text" or "sign", or the "end"; where it begins and ends."""

    kind: str
    text: str
    at: int
    end: int


def lexemes(text: str) -> Iterator[Lexeme]:
    """The lexemes of an expression, the end last. Raises `BadExpression`."""
    at = 0
    while at < len(text):
        match = _LEXEME.match(text, at)
        if match is None:
            raise BadExpression(_odd(text, at), at)
        kind, word = str(match.lastgroup), match.group()
        if kind == "word" and word in KEYWORDS:
            kind = "keyword"
        if kind != "blank":
            yield Lexeme(kind, word, at, match.end())
        at = match.end()
    yield Lexeme("end", "", len(text), len(text))


def _odd(text: str, at: int) -> str:
    if text[at] == '"':
        return f"the text that begins at {at + 1} has no closing quotation mark"
    if text.startswith("/*", at):
        return f"the remark that begins at {at + 1} is not closed with */"
    told = habit(text, at)
    return f"the character {text[at]} at {at + 1} cannot stand there{f'; {told}' if told else ''}"


def unquoted(text: str) -> str:
    """The text between quotation marks, its escapes resolved. Raises ValueError for a character that there is not."""
    body = text[1:-1]
    return _ESCAPE.sub(_resolved, body) if "\\" in body else body


def _resolved(match: re.Match[str]) -> str:
    word = match.group(1)
    if len(word) > 1:
        return chr(int(word[1:], 16))
    return _ESCAPED.get(word, match.group())  # the standard says nothing of others: they stay as they are
