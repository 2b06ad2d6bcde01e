"""A flow as YAML 1.2: `no` is a word, `0.10` keeps its digits, nothing in it runs."""

from __future__ import annotations

import io
from decimal import Decimal
from typing import Any

from ruamel.yaml.error import YAMLError

from metrikon.core.flows.yaml import Plain, yaml_reader
from metrikon.core.flows.yaml_words import in_words
from metrikon.core.values.exact import NotJson, loads

LONGEST = 500_000  # characters
MOST_PARTS = 200_000  # lists and contexts, with those that are referred to counted anew


class NotYaml(ValueError):
    """The text is no YAML; the message says where. `line` and `column`: from 1, 0 where there is none."""

    def __init__(self, message: str, line: int = 0, column: int = 0) -> None:
        super().__init__(message)
        self.line = line
        self.column = column


class _Exact(Plain):
    """Numbers with a fraction stay exact."""

    def construct_exact(self, leaf: Any) -> Decimal:
        return Decimal(str(leaf.value).replace("_", ""))


_Exact.add_constructor("tag:yaml.org,2002:float", _Exact.construct_exact)


def from_yaml(text: str) -> Any:
    """Plain data from YAML or JSON text. Raises `NotYaml`."""
    if len(text) > LONGEST:
        raise NotYaml(f"The text has {len(text)} characters; at most {LONGEST} are read.")
    if text.lstrip().startswith("{"):
        try:
            return loads(text)  # JSON, a hundred times as fast
        except NotJson:
            pass  # YAML in its flow style begins so, too
    try:
        found = yaml_reader(_Exact).load(io.StringIO(text))
    except (YAMLError, ValueError, RecursionError, ArithmeticError) as error:
        mark = getattr(error, "problem_mark", None)
        where = f" at line {mark.line + 1}, column {mark.column + 1}" if mark else ""
        line, column = (mark.line + 1, mark.column + 1) if mark else (0, 0)
        raise NotYaml(f"The text is no YAML{where}: {in_words(str(getattr(error, 'problem', None) or error), text, line)}", line, column) from error
    if "*" in text and _parts(found, {}) > MOST_PARTS:
        raise NotYaml("The text refers to itself too often.")
    return found


def _parts(value: Any, known: dict[int, int]) -> int:
    """How many lists and contexts there are in a value, with those that stand in several places counted in each."""
    if not isinstance(value, dict | list):
        return 0
    if id(value) not in known:
        known[id(value)] = MOST_PARTS + 1  # for one that holds itself
        known[id(value)] = 1 + sum(_parts(each, known) for each in (value.values() if isinstance(value, dict) else value))
    return known[id(value)]
