"""How sure a model was of each value it gave, where its server tells the probabilities of tokens."""

from __future__ import annotations

import math
import re
from bisect import bisect_right
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from metrikon.core.extraction.indexing.index import squeezed

_PIECE = re.compile(r'"(?:[^"\\]|\\.)*"|[-+\w.]+|[{}\[\],:]')

Chances = Mapping[tuple[str, str], float]  # by the shape of the field and the value as it was written


def chances(answers: Sequence[tuple[str, Sequence[tuple[int, float]]]]) -> Chances:
    """The probability of the least likely token of each value; of a value that was given several times the highest.

    Each answer is its text with (end, logarithm of the probability) of its tokens. Under "" as the value stands that of a field given once.
    """
    found: dict[tuple[str, str], float] = {}
    for text, tokens in answers:
        ends = [end for end, _ in tokens]
        single: dict[str, list[float]] = {}
        for shape, value, first, last in _values(text):
            least = min((chance for _, chance in tokens[bisect_right(ends, first) : bisect_right(ends, last - 1) + 1]), default=0.0)
            sure = round(math.exp(least), 4)
            single.setdefault(shape, []).append(sure)
            key = (shape, squeezed(value))
            found[key] = max(sure, found.get(key, 0.0))
        found.update({(shape, ""): sure[0] for shape, sure in single.items() if len(sure) == 1})
    return found


def chance_of(known: Chances, shape: str, value: Any) -> float | None:
    """The probability of a value; of one that was brought into another form since, that of its field where it was given once."""
    return known.get((shape, squeezed(str(value).lower() if isinstance(value, bool) else str(value))), known.get((shape, "")))


def _values(text: str) -> Iterator[tuple[str, str, int, int]]:
    """(shape, value, first, last) of the scalars of a JSON text that may be cut off or broken."""
    path: list[str] = []  # names, "*" for a list
    name = ""
    at_value = False
    for match in _PIECE.finditer(text):
        piece = match.group()
        if piece == "{":
            path.append(name)
            name, at_value = "", False
        elif piece == "[":
            path.append(name)
            path.append("*")
            name, at_value = "", True
        elif piece == "}":
            name = path.pop() if path else ""
            at_value = bool(path) and path[-1] == "*"
        elif piece == "]":
            del path[-2:]
            at_value = False
        elif piece == ":":
            at_value = True
        elif piece == ",":
            at_value = bool(path) and path[-1] == "*"
            name = "" if at_value else name
        elif at_value:
            at_value = False
            if piece != "null":
                parts = [*path, name]
                yield "/" + "/".join(part for part in parts if part), piece.strip('"'), match.start(), match.end()
        else:
            name = piece.strip('"')


__all__ = ["Chances", "chance_of", "chances"]
