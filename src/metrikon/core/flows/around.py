"""What can be said around a step without running it: what is in scope, as JSON Schemas, and what is kept here."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from metrikon.core.feel import BadExpression, names, parse
from metrikon.core.feel.holes import expressions
from metrikon.core.feel.syntax import Name, Path
from metrikon.core.flows.kind import ANYTHING, Known, Schema
from metrikon.core.flows.model import Flow
from metrikon.core.values.near import meant

Scope = Mapping[str, Schema | None]  # None: a name that holds nothing


def text(**names: str) -> Schema:
    """The schema of a context of texts: names with what they are."""
    return closed({name: {"type": "string", "description": told} for name, told in names.items()})


def closed(properties: Mapping[str, Schema]) -> Schema:
    """The schema of a context that has these entries and no others."""
    return {"type": "object", "properties": dict(properties), "additionalProperties": False}


def listed(element: Schema) -> Schema:
    """The schema of a list."""
    return {"type": "array", "items": element}


ITEM: Schema = text(
    id="Its id.", file="Its file, by hash.", name="The name it came under.", intake="The name of its intake.", received="When it came in."
)
ITEM["properties"]["data"] = {"description": "What its intake knows of it, such as a payload or a row; null for a plain file."}
RUN = text(id="Its id.", today="The day it began.", flow="The flow and its version.", link="The address of its item in the console.")


@dataclass(frozen=True)
class Around:
    """What is around a step: the flow that it is in, what is in scope, what is kept here."""

    flow: Flow
    known: Known
    scope: Scope

    def schema_of(self, hole: str) -> Schema | None:
        """The schema of a text that is one hole with a name or path in it; anything for all else."""
        try:
            found = [expression for _, expression in expressions(hole)]
        except BadExpression:
            return ANYTHING
        if len(found) != 1 or not hole.strip().startswith("${"):
            return ANYTHING
        try:
            part = parse(found[0])
        except BadExpression:
            return ANYTHING
        if not isinstance(part, Name | Path) or (isinstance(part, Path) and not isinstance(part.base, Name)):
            return ANYTHING
        return self.schema_at(next(names(part), ()))

    def schema_at(self, path: Sequence[str]) -> Schema | None:
        """The schema of a path from the names in scope."""
        at: Schema | None = {"properties": self.scope, "additionalProperties": False}
        for name in path:
            at = entry(at, name)
        return at


def entry(schema: Schema | None, name: str) -> Schema | None:
    """The schema of an entry of what a schema describes, of the entries of all elements for a list; anything where nothing is known."""
    if not schema:
        return ANYTHING
    if "items" in schema:
        inner = entry(schema["items"], name)
        return listed(inner) if inner else ANYTHING
    properties = schema.get("properties") or {}
    found: Schema = properties.get(name, ANYTHING)
    return found


def lost(path: Sequence[str], scope: Scope) -> Iterator[str]:
    """What is wrong with a path from the names in scope: a name that is not known, with those that are."""
    at: Schema | None = {"properties": scope, "additionalProperties": False}
    for number, name in enumerate(path):
        while at and "items" in at:
            at = at["items"]
        if not at or at.get("additionalProperties") is not False:
            return
        properties: Mapping[str, Any] = at["properties"]
        if name not in properties:
            before = ".".join(path[:number])
            where = f"{before} holds" if before else "Known here are"
            yield f"{name!r} is not known{meant(name, properties)} {where} {', '.join(sorted(properties)) or 'nothing'}."
            return
        at = properties[name]


def of_record(schema: Mapping[str, Any]) -> Schema:
    """The schema of a record as flows see it: no entries but those of its type."""
    found = dict(schema)
    if "properties" in schema:
        found["properties"] = {name: of_record(part) for name, part in schema["properties"].items()}
        found["additionalProperties"] = False
    if isinstance(schema.get("items"), Mapping):
        found["items"] = of_record(schema["items"])
    return found
