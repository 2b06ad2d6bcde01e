"""Where in its text a place of a flow stands."""

from __future__ import annotations

import io
from collections.abc import Iterable
from dataclasses import replace
from typing import Any

from ruamel.yaml.error import YAMLError

from metrikon.core.flows.form import Where
from metrikon.core.flows.problems import Problem
from metrikon.core.flows.yaml import yaml_reader


def with_lines(problems: Iterable[Problem], text: str) -> list[Problem]:
    """Problems with the line and column that they stand at, in the order of the text."""
    try:
        root = yaml_reader().compose(io.StringIO(text))
    except (YAMLError, ValueError, RecursionError):
        return list(problems)
    found = []
    for each in problems:
        line, column = _place(root, each.where)
        found.append(replace(each, line=line, column=column))
    return sorted(found, key=lambda each: (each.line, each.column))


def place_in(text: str, where: Where) -> tuple[int, int]:
    """Line and column, from 1, of a place in a text (YAML or JSON); 0 where the text cannot be read."""
    try:
        return _place(yaml_reader().compose(io.StringIO(text)), where)
    except (YAMLError, ValueError, RecursionError):
        return 0, 0


def _place(root: Any, where: Where) -> tuple[int, int]:
    """Line and column, from 1, of a place; of what is around it where it is not there."""
    at, mark = root, getattr(root, "start_mark", None)
    for part in where:
        value = getattr(at, "value", None)
        if isinstance(part, int) and isinstance(value, list) and part < len(value) and not isinstance(value[part], tuple):
            at = value[part]
            mark = at.start_mark
        elif isinstance(value, list) and value and isinstance(value[0], tuple):
            entry = next(((key, inner) for key, inner in value if str(key.value) == str(part)), None)
            if entry is None:
                break
            mark, at = entry[0].start_mark, entry[1]
        else:
            break
    return (mark.line + 1, mark.column + 1) if mark is not None else (1, 1)
