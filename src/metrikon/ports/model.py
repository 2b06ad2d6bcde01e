"""Model: one request in, one answer out. Language models and the pattern reader stand behind it alike."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any, Protocol

from metrikon.core.extraction.indexing.index import Place

STAND_IN = "stand-in"  # the name of a model that only stands for one: what it says is no judgement


@dataclass(frozen=True)
class Picture:
    """A page as PNG, to be seen besides the words that were read from it. `document`: the hash of the file that it is a page of."""

    document: str
    page: int
    png: bytes = field(repr=False)


@dataclass(frozen=True)
class ModelRequest:
    """What is asked: messages, system first, and the JSON Schema of the answer.

    `fresh`: an answer that was kept must not be given again. `stage` says what the request is for.
    `pictures` are for models that see. `until`: when the answer must be there, by the clock `time.monotonic`; a call is broken off then.
    `about`: the hash of the file that it speaks of; empty where it speaks of none.
    """

    messages: Sequence[Mapping[str, str]]
    schema: Mapping[str, Any]
    fresh: bool = False
    stage: str = "ask"
    pictures: Sequence[Picture] = ()
    until: float = math.inf
    about: str = ""


@dataclass(frozen=True)
class Usage:
    """What an answer cost: tokens read and written, calls made, seconds waited, and money in the currency of the prices."""

    input_tokens: int = 0
    output_tokens: int = 0
    calls: int = 0
    seconds: float = 0.0
    cost: Decimal = Decimal(0)

    def plus(self, other: Usage) -> Usage:
        return Usage(
            self.input_tokens + other.input_tokens,
            self.output_tokens + other.output_tokens,
            self.calls + other.calls,
            self.seconds + other.seconds,
            self.cost + other.cost,
        )

    def as_json(self) -> dict[str, Any]:
        return {
            "input_tokens": self.input_tokens,
            "output_tokens": self.output_tokens,
            "calls": self.calls,
            "milliseconds": round(self.seconds * 1000),
        }


@dataclass(frozen=True)
class ModelAnswer:
    """The text of an answer; adapters that know where they read a value, and how surely, say so.

    `tokens`: where each token of the text ends and the logarithm of its probability, where the server tells.
    `kept`: it was given before and cost nothing now. `call` names the record of the call, where one is kept.
    `seen`: how many pictures the model was shown.
    """

    text: str
    usage: Usage = field(default_factory=Usage)
    places: Mapping[str, Place] = field(default_factory=dict)
    sure: Mapping[str, float] = field(default_factory=dict)
    tokens: tuple[tuple[int, float], ...] = ()
    kept: bool = False
    call: str = ""
    seen: int = 0


class ModelDown(Exception):
    """The model gave no answer; trying again later may help. `wait`: seconds the server asked for.

    `cause`: "busy", "slow" or "unreachable"; "turn" where it was not called, since it was not one's turn.
    """

    def __init__(self, message: str, wait: float | None = None, cause: str = "unreachable") -> None:
        super().__init__(message)
        self.wait = wait
        self.cause = cause


class OverLimit(Exception):
    """A limit on what may be spent would be passed: the call was not made."""


class ModelRefused(Exception):
    """The model will not answer this request; trying again does not help. `form`: it may be the form of the request that it refused."""

    def __init__(self, message: str, form: bool = False) -> None:
        super().__init__(message)
        self.form = form


class Model(Protocol):
    """A language model, or what stands in its place.

    `room`: characters of a document that fit into a request. `sees`: pictures that it may be shown with one, 0 when it takes none.
    """

    name: str
    room: int
    sees: int

    def answer(self, request: ModelRequest) -> ModelAnswer:
        """One answer. Raises `ModelDown` or `ModelRefused`."""
        ...
