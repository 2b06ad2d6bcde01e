"""A flow as YAML 1.2: `no` is a word, `0.10` keeps its digits, nothing in it runs."""

from __future__ import annotations

import io
from decimal import Decimal
from typing import Any

from ruamel.yaml import YAML
from ruamel.yaml.constructor import SafeConstructor
from ruamel.yaml.error import YAMLError

from metrikon.core.values.exact import NotJson, loads

LONGEST = 500_000  # characters
MOST_ALIASES = 50


class NotYaml(ValueError):
    """The text is no YAML; the message says where. `line` and `column`: from 1, 0 where there is none."""

    def __init__(self, message: str, line: int = 0, column: int = 0) -> None:
        super().__init__(message)
        self.line = line
        self.column = column


class _Exact(SafeConstructor):
    """Numbers with a fraction stay exact."""

    def construct_exact(self, leaf: Any) -> Decimal:
        return Decimal(str(leaf.value).replace("_", ""))


_Exact.add_constructor("tag:yaml.org,2002:float", _Exact.construct_exact)


def from_yaml(text: str) -> Any:
    """Plain data from YAML or JSON text. Raises `NotYaml`."""
    if len(text) > LONGEST:
        raise NotYaml(f"The text has {len(text)} characters; at most {LONGEST} are read.")
    if text.count("*") > MOST_ALIASES * 20:
        raise NotYaml("The text refers to itself too often.")
    if text.lstrip().startswith("{"):
        try:
            return loads(text)  # JSON, a hundred times as fast
        except NotJson:
            pass  # YAML in its flow style begins so, too
    yaml = YAML(typ="safe", pure=True)
    yaml.version = (1, 2)
    yaml.Constructor = _Exact
    try:
        return yaml.load(io.StringIO(text))
    except (YAMLError, ValueError, RecursionError, ArithmeticError) as error:
        mark = getattr(error, "problem_mark", None)
        where = f" at line {mark.line + 1}, column {mark.column + 1}" if mark else ""
        line, column = (mark.line + 1, mark.column + 1) if mark else (0, 0)
        raise NotYaml(f"The text is no YAML{where}: {getattr(error, 'problem', None) or error}.", line, column) from error
