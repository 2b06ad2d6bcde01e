"""What goes to a model and what comes back: plain data, kept with the run."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import msgspec

from metrikon.core.extraction.indexing.index import Place

ASK, ROWS, REPAIR, SECOND, DOUBT, PATTERNS = "ask", "rows", "repair", "second", "doubt", "patterns"


class Request(msgspec.Struct, frozen=True, omit_defaults=True):
    """One request: why it is made, its messages, and the JSON Schema of the answer.

    `stage`: "ask", "rows" (the rows of a list written out), "doubt" (a closed question), "repair" or "second" (what is decided, read once more). `part` counts the parts of a
    long document from 0. `fields`: pointers asked for in a repair. `tries`: how often it was asked before.
    `pages`: pages in it whose words were read from a picture, which a model that sees is shown besides.
    """

    stage: str
    about: str
    messages: list[dict[str, str]]
    schema: dict[str, Any]
    part: int = 0
    fields: tuple[str, ...] = ()
    tries: int = 0
    pages: tuple[int, ...] = ()


class Given(msgspec.Struct, frozen=True, omit_defaults=True):
    """The answer to a `Request`; readers that know their places and certainties say so.

    `tokens`: where each token of the text ends and the logarithm of its probability, where the model's server tells.
    """

    stage: str
    text: str
    model: str = ""
    part: int = 0
    fields: tuple[str, ...] = ()
    tries: int = 0
    places: dict[str, Place] = {}
    sure: dict[str, float] = {}
    tokens: tuple[tuple[int, float], ...] = ()


class Stage(msgspec.Struct, frozen=True, omit_defaults=True):
    """What one stage of extraction came to, in a sentence, with what it changed."""

    name: str
    outcome: str
    changes: tuple[str, ...] = ()


@dataclass(frozen=True)
class Asking:
    """How questions are put: the date of the run, the builder's context, and what may be asked.

    `room`: characters of a document in one request. `repairs`: requests to mend what failed, one a model.
    `second`: whether what is decided is read a second time.
    """

    today: str = ""
    context: str = ""
    room: int = 24_000
    repairs: int = 0
    second: bool = False


def answered(ask: Request, text: str, model: str, tokens: tuple[tuple[int, float], ...] = ()) -> Given:
    """The answer to a request."""
    return Given(ask.stage, text, model, ask.part, ask.fields, ask.tries, tokens=tokens)


def by_patterns(text: str, places: Mapping[str, Place], sure: Mapping[str, float]) -> Given:
    """The answer of the reader that knows its places."""
    return Given(PATTERNS, text, "pattern", places=dict(places), sure=dict(sure))
