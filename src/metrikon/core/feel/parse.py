"""From the text of an expression to its tree, by a hand-made grammar (LALR)."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cache, lru_cache
from importlib import resources
from typing import Any

from lark import Lark, Token, Tree
from lark.exceptions import UnexpectedCharacters, UnexpectedEOF, UnexpectedInput

LONGEST = 4000  # characters
DEEPEST = 60  # nested brackets


class BadExpression(ValueError):
    """An expression that cannot be parsed; the message shows where."""


@cache
def _grammar() -> Lark:
    text = resources.files(__package__).joinpath("grammar.lark").read_text("utf-8")
    return Lark(text, parser="lalr", maybe_placeholders=False)


@lru_cache(maxsize=4096)
def parse(text: str) -> Any:
    """The tree of an expression. Raises `BadExpression`."""
    if len(text) > LONGEST:
        raise BadExpression(f"The expression has {len(text)} characters; at most {LONGEST} are allowed.")
    if _depth(text) > DEEPEST:
        raise BadExpression(f"The expression nests deeper than {DEEPEST} brackets.")
    if not text.strip():
        raise BadExpression("The expression is empty.")
    try:
        return _grammar().parse(text)
    except UnexpectedEOF as error:
        raise BadExpression(f"The expression {text!r} ends too early.") from error
    except UnexpectedCharacters as error:
        raise BadExpression(f"{text!r}: the character {text[error.pos_in_stream or 0]!r} at {error.column} cannot stand there.") from error
    except UnexpectedInput as error:
        word = str(getattr(error, "token", ""))
        if not word:
            raise BadExpression(f"The expression {text!r} ends too early.") from error
        raise BadExpression(f"{text!r}: {word!r} at {getattr(error, 'column', 1)} cannot stand there.") from error


def _depth(text: str) -> int:
    deepest = level = 0
    for character in text:
        level += (character in "([{") - (character in ")]}")
        deepest = max(deepest, level)
    return deepest


def names(tree: Any) -> Iterator[tuple[str, ...]]:
    """The names that an expression takes from its scope, each with the path that follows it."""
    yield from _names(tree, frozenset())


def _names(tree: Any, bound: frozenset[str]) -> Iterator[tuple[str, ...]]:
    if isinstance(tree, Token):
        return
    if tree.data in ("name", "path"):
        path = _path(tree)
        if path is not None:
            if path[0] not in bound:
                yield path
            return
    if tree.data in ("loop", "quantified"):
        for part in tree.children:
            if isinstance(part, Tree) and part.data == "iterator":
                yield from _names(part.children[1], bound)
                bound = bound | {str(part.children[0])}
            else:
                yield from _names(part, bound)
        return
    if tree.data == "filtered":
        yield from _names(tree.children[0], bound)
        return  # within a filter, names are fields of the list's elements first
    for part in tree.children:
        yield from _names(part, bound)


def _path(tree: Any) -> tuple[str, ...] | None:
    if tree.data == "name":
        return (str(tree.children[0]),)
    if tree.data == "path":
        before = _path(tree.children[0]) if isinstance(tree.children[0], Tree) else None
        return None if before is None else (*before, str(tree.children[1]))
    return None
