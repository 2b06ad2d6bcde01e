"""Model: one request in, one answer out. Language models and the pattern reader stand behind it alike."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, Protocol

from metrikon.core.extraction.index import Place
from metrikon.core.records.types import RecordType


@dataclass(frozen=True)
class ModelRequest:
    """What is asked. Adapters that speak to a server send `messages`; the pattern reader has its answer worked out."""

    messages: list[dict[str, str]]
    kind: RecordType
    patterns: Callable[[RecordType], ModelAnswer]


@dataclass(frozen=True)
class Usage:
    """What an answer cost: tokens read and written, calls made, seconds waited."""

    input_tokens: int = 0
    output_tokens: int = 0
    calls: int = 0
    seconds: float = 0.0

    def plus(self, other: Usage) -> Usage:
        return Usage(
            self.input_tokens + other.input_tokens,
            self.output_tokens + other.output_tokens,
            self.calls + other.calls,
            self.seconds + other.seconds,
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
    """The text of an answer; adapters that know where they read a value, and how surely, say so."""

    text: str
    usage: Usage = field(default_factory=Usage)
    places: Mapping[str, Place] = field(default_factory=dict)
    sure: Mapping[str, float] = field(default_factory=dict)


class ModelDown(Exception):
    """The model gave no answer; trying again later may help. `wait`: seconds the server asked for."""

    def __init__(self, message: str, wait: float | None = None) -> None:
        super().__init__(message)
        self.wait = wait


class ModelRefused(Exception):
    """The model will not answer this request; trying again does not help."""


class Model(Protocol):
    """A language model, or what stands in its place."""

    name: str

    def answer(self, request: ModelRequest) -> ModelAnswer:
        """One answer. Raises `ModelDown` or `ModelRefused`."""
        ...
