"""A copy of a flow: its text with another name and other settings; all else stays as its author wrote it, remarks included."""

from __future__ import annotations

import io
from collections.abc import Mapping
from decimal import Decimal
from typing import Any

from metrikon.core.flows.model import Flow
from metrikon.core.flows.yaml import yaml_reader
from metrikon.core.values.exact import dumps
from metrikon.core.values.near import meant


class BadCopy(ValueError):
    """A copy that cannot be made; the message says what to do."""


def copied(text: str, flow: Flow, name: str, values: Mapping[str, Any]) -> str:
    """The text of a flow under another name, with other values of its settings. Raises `BadCopy` for a setting that it has not."""
    known = flow.head.settings
    for each in values:
        if each not in known:
            raise BadCopy(f"The flow {flow.name} has no setting {each!r}{meant(each, known)} Known: {', '.join(known) or 'none'}.")
    root = yaml_reader().compose(io.StringIO(text))
    spans = [_span(text, root, ("name",), name)]
    texts = {each: [str(part) for part in value] for each, value in values.items() if known[each].type == "list" and isinstance(value, list)}
    spans += [_span(text, root, ("settings", each, "value"), texts.get(each, value)) for each, value in values.items()]
    for start, end, written in sorted(spans, reverse=True):
        text = text[:start] + written + text[end:]
    return text


def _span(text: str, root: Any, where: tuple[str, ...], value: Any) -> tuple[int, int, str]:
    """From where to where a value stands in a text, and what stands there instead."""
    at = root
    for name in where:
        at = next(inner for key, inner in at.value if key.value == name)
    start, end = at.start_mark.index, at.end_mark.index
    end = start + len(text[start:end].rstrip())
    written = str(value) if where == ("name",) else _written(value)
    return start, end, f"{'  ' if _stacked(at) else ''}{written}"


def _written(value: Any) -> str:
    """A value as YAML: as JSON, but for numbers, which keep their digits."""
    if isinstance(value, Decimal):
        return f"{value:f}"
    if not isinstance(value, str | int | bool | list | dict):
        raise BadCopy(f"{value!r} cannot be the value of a setting; give a text, a number, true or false, a list of texts, or data.")
    return dumps(value).decode()


def _stacked(part: Any) -> bool:
    """Whether a value is a list with an element a line: what comes in its place stands further in than its name."""
    return isinstance(part.value, list) and not part.flow_style
