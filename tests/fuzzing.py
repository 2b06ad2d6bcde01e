"""Requests of every kind that the description of the API allows, and of kinds that it forbids: each must get an answer that it describes."""

from __future__ import annotations

import json
import random
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import httpx
import schemathesis
from hypothesis import HealthCheck, Phase, given, seed, settings
from schemathesis.generation import GenerationMode


@schemathesis.serializer("application/zip", "application/yaml", "application/schema+json")
def _as_it_is(_: Any, value: Any) -> bytes:
    """How a body of a kind is written that the library does not know."""
    return (
        value if isinstance(value, bytes) else value.encode("utf-8", "replace") if isinstance(value, str) else json.dumps(value, default=str).encode()
    )


ASIDE = {"GET /api/openapi.json"}  # what is described by no type of ours


@dataclass
class Fuzzed:
    """What came of it: how many requests got which answer, and those that got one that they may not."""

    answers: Counter[int] = field(default_factory=Counter)
    wrong: list[str] = field(default_factory=list)

    @property
    def count(self) -> int:
        return sum(self.answers.values())


def operations(url: str) -> Iterator[Any]:
    """Every operation that the description of a service names."""
    described = schemathesis.openapi.from_dict(httpx.get(f"{url}/api/openapi.json").json())
    every: Any = described.get_all_operations()
    for found in every:
        operation = found.ok()
        if operation.label not in ASIDE:
            yield operation


def fuzz(
    url: str,
    token: str,
    examples: int,
    number: int,
    known: Mapping[str, Sequence[str]],
    found: Fuzzed,
    going_on: Callable[[], bool] = lambda: True,
) -> None:
    """So many requests of each operation, half of them of kinds that it forbids. `known`: names and ids that are there, by the name of the parameter."""
    chance = random.Random(number)
    with httpx.Client(base_url=url, timeout=60) as http:
        for operation in operations(url):
            for mode in (GenerationMode.POSITIVE, GenerationMode.NEGATIVE):
                if going_on():
                    _requests(operation, mode, http, token, max(1, examples // 2), number, known, chance, found)


def _requests(
    operation: Any,
    mode: Any,
    http: httpx.Client,
    token: str,
    examples: int,
    number: int,
    known: Mapping[str, Sequence[str]],
    chance: random.Random,
    found: Fuzzed,
) -> None:
    quiet = [HealthCheck.too_slow, HealthCheck.filter_too_much, HealthCheck.data_too_large, HealthCheck.large_base_example]

    @seed(number)
    @settings(max_examples=examples, deadline=None, database=None, phases=[Phase.generate], suppress_health_check=quiet)
    @given(case=operation.as_strategy(generation_mode=mode))
    def one(case: Any) -> None:
        for name, there in known.items():
            if name in (case.path_parameters or {}) and there and chance.random() < 0.6:
                case.path_parameters[name] = chance.choice(there)
        try:
            answer = case.call(base_url=str(http.base_url), headers={"Authorization": f"Bearer {token}"}, timeout=60)
        except (ValueError, UnicodeError):
            return  # no request can be made of it
        found.answers[answer.status_code] += 1
        wrong = _wrong(operation, answer)
        if wrong:
            found.wrong.append(f"{operation.label}: {wrong}\n  {case.as_curl_command({'Authorization': '…'})[:600]}")

    try:
        one()
    except Exception as error:
        if type(error).__name__ not in ("Unsatisfiable", "FlakyStrategyDefinition", "SchemaError"):
            raise  # else nothing of that kind can be made for this operation


def _wrong(operation: Any, answer: Any) -> str:
    """What is wrong with an answer; empty when nothing is."""
    kind = (answer.headers.get("content-type") or [""])[0].partition(";")[0]
    if answer.status_code >= 500 and answer.status_code not in (503, 507):
        return f"an error of the service: {answer.status_code} {answer.text[:300]}"
    if answer.status_code >= 400:
        if kind != "application/problem+json":
            return f"{answer.status_code} as {kind or 'nothing'}: {answer.text[:200]}"
        told = json.loads(answer.text)
        return "" if {"type", "title", "status", "detail"} <= set(told) and told["detail"] else f"a problem that says nothing: {told}"
    described = operation.definition.raw["responses"].get(str(answer.status_code))
    if described is None:
        return f"an answer that is not described: {answer.status_code}"
    if answer.content and kind not in described.get("content", {}):
        return f"content that is not described: {kind}"
    return ""
