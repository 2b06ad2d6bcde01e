"""Fields to columns: what does not fit is told when a flow is kept; what seems to fit is suggested, by name and type, for a person to confirm."""

from __future__ import annotations

import io
import re
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from difflib import SequenceMatcher
from typing import Any

from ruamel.yaml.error import YAMLError
from ruamel.yaml.nodes import MappingNode, SequenceNode

from metrikon.core.feel import BadExpression, parse
from metrikon.core.feel.holes import Hole, holes
from metrikon.core.feel.inferring import type_of
from metrikon.core.flows.around import Around
from metrikon.core.flows.form import Where
from metrikon.core.flows.kind import Known, Schema
from metrikon.core.flows.model import Flow, Step
from metrikon.core.flows.problems import Problem
from metrikon.core.flows.verify import writers
from metrikon.core.flows.yaml import yaml_reader
from metrikon.core.values.exact import dumps
from metrikon.core.values.near import meant

NEAR, DEEPEST, MOST_FIELDS = 0.82, 4, 400
_TOLD = {"text": "text", "number": "numbers", "yes/no": "yes or no", "date": "dates", "date and time": "dates with a time"}
_FITS: Mapping[str, frozenset[str]] = {
    "text": frozenset({"text", "number", "yes/no", "date", "date and time"}),
    "number": frozenset({"number"}),
    "yes/no": frozenset({"yes/no"}),
    "date": frozenset({"date"}),
    "date and time": frozenset({"date", "date and time"}),
}
_FEEL = {
    "string": "text",
    "number": "number",
    "boolean": "yes/no",
    "date": "date",
    "date and time": "date and time",
    "list": "list",
    "context": "context",
}
_JSON = {"string": "text", "number": "number", "integer": "number", "boolean": "yes/no", "array": "list", "object": "context"}


@dataclass(frozen=True)
class Head:
    """A column of a destination. `kind`: "text", "number", "yes/no", "date", "date and time", or "" for whatever is put into it; `wanted`: a row without a
    value for it is not taken."""

    name: str
    kind: str = ""
    wanted: bool = False


@dataclass(frozen=True)
class Columns:
    """The columns of a destination as they are. `grows`: others are added to them."""

    heads: Sequence[Head]
    grows: bool = False

    def of(self, name: str) -> Head | None:
        """The column of a name, whatever its capitals."""
        exact = next((each for each in self.heads if each.name == name), None)
        return exact or next((each for each in self.heads if _small(each.name) == _small(name)), None)


@dataclass(frozen=True)
class Field:
    """A value that is known where a row is written: the expression that names it, and its kind ("" where that is not known)."""

    expression: str
    kind: str


@dataclass(frozen=True)
class Mapped:
    """A step that writes rows: where its columns stand in the flow, what is put into them, and the fields that are known there."""

    step: Step
    destination: str
    where: Where
    columns: Mapping[str, Any]
    makes: bool  # a row, where there is none
    around: Around


def mapped(flow: Flow, known: Known) -> list[Mapped]:
    """The columns that steps of a flow set, where they write rows and where these are taken back."""
    found = []
    for step, around in writers(flow, known):
        for each in step.kind.writes(step.parameters) if step.kind.writes is not None else ():
            found.append(Mapped(step, each.to, (*step.where, step.kind.name, each.under), each.columns, each.makes, around))
    return found


def set_by(flow: Flow, destinations: Collection[str]) -> frozenset[str]:
    """The columns that a flow itself sets in some of its destinations."""
    written = [each for step in flow.every_step if step.kind.writes is not None for each in step.kind.writes(step.parameters)]
    return frozenset(column for each in written if each.to in destinations for column in each.columns)


def misfits(flow: Flow, known: Known, columns_of: Callable[[str], Columns | None]) -> list[Problem]:
    """What of the mapping of a flow does not fit the columns as they are; of destinations whose columns are not known nothing is told."""
    found = []
    for each in mapped(flow, known):
        columns = columns_of(each.destination)
        for place, told in _misfits(each, columns) if columns is not None else ():
            found.append(
                Problem(each.step.name, "/".join(map(str, (each.step.kind.name, *place))), told, (*each.step.where, each.step.kind.name, *place))
            )
    return found


def _misfits(each: Mapped, columns: Columns) -> Iterator[tuple[tuple[str, ...], str]]:
    under = str(each.where[-1])
    for name, value in each.columns.items():
        head = columns.of(name)
        if head is None:
            if not columns.grows:
                known = [one.name for one in columns.heads]
                yield (under, name), f"{each.destination} has no column {name!r}{meant(name, known)} It has: {', '.join(known[:40])}."
            continue
        kind = kind_of(value, each.around)
        if head.kind and kind and kind not in _FITS[head.kind]:
            yield (
                (under, name),
                f"The column {head.name} of {each.destination} holds {_TOLD[head.kind]}, and this gives {_TOLD.get(kind, f'a {kind}')}. {_MEND.get((kind, head.kind), 'Map another value.')}",
            )
    if each.makes:
        given = {_small(name) for name in each.columns}
        for head in columns.heads:
            if head.wanted and _small(head.name) not in given:
                yield ("columns",), f"The column {head.name} of {each.destination} must have a value, and none is mapped to it. Map one."


_MEND = {
    ("text", "number"): "number(…) makes a number of it.",
    ("text", "date"): "date(…) makes a date of it.",
    ("text", "date and time"): "date and time(…) makes a moment of it.",
}


def kind_of(value: Any, around: Around) -> str:
    """What a value of a mapping gives, as far as that is known; "" where it is not."""
    if isinstance(value, bool):
        return "yes/no"
    if not isinstance(value, str):
        return "number" if value is not None and not isinstance(value, list | dict) else ""
    try:
        parts = holes(value)
    except BadExpression:
        return ""
    if len(parts) != 1 or not isinstance(parts[0], Hole):
        return "" if not any(isinstance(each, Hole) for each in parts) else "text"
    schema = around.schema_of(value)
    if schema:
        return kind_of_schema(schema)
    try:
        return _FEEL.get(type_of(parse(parts[0].expression), around.schema_at) or "", "")
    except BadExpression:
        return ""


def kind_of_schema(schema: Schema) -> str:
    """What a schema describes; "" where it may be several things."""
    told = schema.get("type")
    told = (
        next((each for each in told if each != "null"), "")
        if isinstance(told, list) and len([each for each in told if each != "null"]) == 1
        else told
    )
    if told == "string" and schema.get("format") in ("date", "date-time"):
        return "date" if schema["format"] == "date" else "date and time"
    return _JSON.get(told, "") if isinstance(told, str) else ""


def fields(around: Around) -> list[Field]:
    """The values that are known at a step, those of its record type first; lists and what is within them are left out."""
    found: list[Field] = []

    def walk(path: tuple[str, ...], schema: Schema | None, depth: int) -> None:
        if not schema or len(found) >= MOST_FIELDS:
            return
        inner = schema.get("properties")
        if isinstance(inner, Mapping) and depth < DEEPEST:
            for name, each in inner.items():
                if re.fullmatch(r"[A-Za-z_]\w*", str(name)):
                    walk((*path, str(name)), each, depth + 1)
            return
        kind = kind_of_schema(schema)
        if kind not in ("list", "context"):
            found.append(Field(".".join(path), kind))

    for name, schema in reversed(list(around.scope.items())):
        if name not in ("run", "given"):
            walk((name,), schema, 0)
    return found


def suggested(heads: Sequence[Head], known: Sequence[Field]) -> dict[str, str]:
    """For columns the expression of a field that seems to fit, by name and type; each field once, the closest first."""
    near = sorted(
        ((_likeness(head, field), -place, head.name, field.expression) for head in heads for place, field in enumerate(known) if _may(head, field)),
        reverse=True,
    )
    made: dict[str, str] = {}
    for likeness, _, column, expression in near:
        if likeness >= NEAR and column not in made and expression not in made.values():
            made[column] = expression
    return made


def _may(head: Head, field: Field) -> bool:
    return not head.kind or not field.kind or field.kind in _FITS[head.kind]


def _likeness(head: Head, field: Field) -> float:
    name = _small(head.name.rpartition(".")[2])
    parts = [_small(each) for each in field.expression.split(".")]
    ways = [parts[-1], "".join(parts[-2:])]
    return max(1.0 if way == name else SequenceMatcher(None, way, name).ratio() for way in ways)


def _small(name: str) -> str:
    return re.sub(r"[^\w]|_", "", name.casefold())


def remapped(text: str, where: Where, columns: Mapping[str, Any]) -> str:
    """The text of a flow with other columns at a place; all else stays as its author wrote it. Raises ValueError where there is no such place."""
    try:
        at: Any = yaml_reader().compose(io.StringIO(text))
    except YAMLError as error:
        raise ValueError(f"The text is no YAML that can be read: {str(error).splitlines()[0][:200]}.") from error
    if at is None or not where:
        raise ValueError("The text holds nothing that could be changed.")
    for name in where:
        if isinstance(name, int):
            at = at.value[name] if isinstance(at, SequenceNode) and name < len(at.value) else None
        else:
            at = next((inner for key, inner in at.value if key.value == name), None) if isinstance(at, MappingNode) else None
        if at is None:
            raise ValueError(f"The flow has no {'/'.join(map(str, where))}.")
    if not isinstance(at, MappingNode):
        raise ValueError(f"The flow has no columns at {'/'.join(map(str, where))}.")
    start, end = at.start_mark.index, at.end_mark.index
    end = start + len(text[start:end].rstrip())
    if at.flow_style or not at.value:
        return f"{text[:start]}{{{', '.join(_entry(name, value) for name, value in columns.items())}}}{text[end:]}"
    indent = " " * at.start_mark.column
    return text[:start] + f"\n{indent}".join(_entry(name, value) for name, value in columns.items()) + text[end:]


def _entry(name: str, value: Any) -> str:
    return f"{_plain(name)}: {dumps(value).decode() if not isinstance(value, str) else _plain(value)}"


def _plain(text: str) -> str:
    """A text in YAML: in quotes where it would be taken for something else."""
    if (
        re.fullmatch(r"[A-Za-z][\w ./-]*", text)
        and not text.endswith(" ")
        and text.lower() not in ("true", "false", "null", "yes", "no", "on", "off", "y", "n")
    ):
        return text
    return dumps(text).decode()
