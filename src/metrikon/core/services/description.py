"""An OpenAPI description (versions 3.0 and 3.1) as operations with typed fields. Hostile data: nothing is fetched, references stay within it, all is limited."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

import openapi_pydantic
from openapi_pydantic.v3 import v3_0
from pydantic import ValidationError
from referencing import Registry
from referencing.exceptions import Unresolvable
from referencing.jsonschema import DRAFT202012

METHODS = ("get", "post", "put", "patch", "delete")
MOST_OPERATIONS, DEEPEST, MOST_FIELDS = 2000, 4, 400
_KINDS = {"string": "text", "number": "number", "integer": "number", "boolean": "yes/no", "array": "list", "object": "context"}


class BadDescription(ValueError):
    """No description that can be used; the message says why."""


@dataclass(frozen=True)
class Field:
    """A value that an operation takes or gives. `place`: "path", "query", "header", "body", "element" (of a list in the body) or "answer"; `name`: with points between the parts of a nested one."""

    name: str
    place: str
    kind: str = ""
    wanted: bool = False
    about: str = ""
    choices: tuple[str, ...] = ()
    format: str = ""
    holds: str = ""  # the kind of the elements of a list
    within: tuple[Field, ...] = ()  # the fields of its elements, where they are contexts whose names are told


@dataclass(frozen=True)
class Operation:
    """Something that a service can be asked for. `name`: the description's own, or made of method and path."""

    name: str
    method: str
    path: str
    about: str = ""
    fields: tuple[Field, ...] = ()
    answer: tuple[Field, ...] = ()
    media: str = ""  # of the body
    good: tuple[int, ...] = (200, 201, 202, 204)

    def field_of(self, name: str) -> Field | None:
        """The field with a name, whatever its capitals."""
        exact = next((each for each in self.fields if each.name == name), None)
        return exact or next((each for each in self.fields if each.name.casefold() == name.casefold()), None)


@dataclass(frozen=True)
class Description:
    """What a service says of itself."""

    title: str
    version: str
    servers: tuple[str, ...]
    operations: Mapping[str, Operation] = field(default_factory=dict)


def description(data: Any) -> Description:
    """The description in plain data. Raises `BadDescription`."""
    if not isinstance(data, Mapping) or not str(data.get("openapi", "")).startswith("3."):
        raise BadDescription("It is no OpenAPI description of version 3: its entry `openapi` says which version it is.")
    parse = v3_0.OpenAPI if str(data["openapi"]).startswith("3.0") else openapi_pydantic.OpenAPI
    try:
        parsed = parse.model_validate(_without_references(data, 0))
    except ValidationError as error:
        first = error.errors()[0]
        raise BadDescription(f"The description is not as OpenAPI has it: {'/'.join(map(str, first['loc']))}: {first['msg']}.") from error
    except RecursionError as error:
        raise BadDescription("The description is nested too deeply.") from error
    reader = _Reader(data)
    operations: dict[str, Operation] = {}
    for path, item in (data.get("paths") or {}).items():
        entry = reader.followed(item)
        for method in METHODS:
            said = entry.get(method) if isinstance(entry, Mapping) else None
            if isinstance(said, Mapping):
                made = reader.operation(str(path), method, said, entry)
                operations[_free(made.name, operations)] = made
                if len(operations) > MOST_OPERATIONS:
                    raise BadDescription(f"The description has more than {MOST_OPERATIONS} operations.")
    if not operations:
        raise BadDescription("The description has no operations.")
    servers = tuple(str(each.get("url", "")) for each in data.get("servers") or () if isinstance(each, Mapping))
    return Description(str(parsed.info.title), str(parsed.info.version), servers, operations)


def _free(name: str, taken: Mapping[str, Any]) -> str:
    number = 2
    found = name
    while found in taken:
        found, number = f"{name}_{number}", number + 1
    return found


def _without_references(value: Any, depth: int) -> Any:
    """The description for a first look, its references left for later; values of examples and extensions are of no account."""
    if depth > 60:
        raise BadDescription("The description is nested too deeply.")
    if isinstance(value, Mapping):
        return {
            str(name): _without_references(each, depth + 1)
            for name, each in value.items()
            if name not in ("example", "examples", "default", "components")
        }
    return [_without_references(each, depth + 1) for each in value] if isinstance(value, list) else value


class _Reader:
    """Reads operations, following references within the description."""

    def __init__(self, data: Mapping[str, Any]) -> None:
        whole = DRAFT202012.create_resource(data)
        self._resolver = Registry().with_resource("urn:description", whole).resolver("urn:description")

    def followed(self, value: Any) -> Any:
        """What stands at the end of a reference. Raises `BadDescription` for one that leads elsewhere, or round in a circle."""
        for _ in range(20):
            if not isinstance(value, Mapping) or not isinstance(value.get("$ref"), str):
                return value
            told = value["$ref"]
            if not told.startswith("#/"):
                raise BadDescription(f"The description refers to {told[:120]!r}, which lies outside of it. Give one that holds everything itself.")
            try:
                value = self._resolver.lookup(told).contents
            except (Unresolvable, ValueError, KeyError) as error:
                raise BadDescription(f"The description refers to {told[:120]!r}, which it does not hold.") from error
        raise BadDescription("A reference of the description leads round in a circle.")

    def operation(self, path: str, method: str, said: Mapping[str, Any], around: Mapping[str, Any]) -> Operation:
        """One operation."""
        given = [self.followed(each) for each in [*(around.get("parameters") or ()), *(said.get("parameters") or ())]]
        fields = [self._parameter(each) for each in given if isinstance(each, Mapping) and each.get("in") in ("path", "query", "header")]
        body = self.followed(said.get("requestBody") or {})
        content = body.get("content") if isinstance(body, Mapping) else None
        media = next((each for each in content or () if "json" in each), next(iter(content or ()), ""))
        if content and media:
            fields += list(self._body(self.followed(content[media].get("schema") or {}), "body", "", 0))
        answers = said.get("responses") or {}
        good = tuple(int(each) for each in answers if str(each).isdecimal() and 200 <= int(each) < 300) or (200, 201, 202, 204)
        answer: list[Field] = []
        for status in good:
            content = (self.followed(answers.get(str(status)) or answers.get(status) or {}) or {}).get("content") or {}
            media_out = next((each for each in content if "json" in each), "")
            if media_out:
                answer = list(self._body(self.followed(content[media_out].get("schema") or {}), "answer", "", 0))
                break
        name = str(said.get("operationId") or f"{method}{path}")
        name = re.sub(r"[^A-Za-z0-9_.-]+", "_", name).strip("_")[:100] or method
        about = str(said.get("summary") or said.get("description") or "").strip().split("\n")[0][:300]
        unique = list({(each.place, each.name): each for each in fields}.values())
        return Operation(name, method.upper(), path, about, tuple(unique[:MOST_FIELDS]), tuple(answer[:MOST_FIELDS]), media, good)

    def _parameter(self, said: Mapping[str, Any]) -> Field:
        schema = self.followed(said.get("schema") or {})
        wanted = bool(said.get("required")) or said["in"] == "path"
        return self._field(str(said.get("name", "")), str(said["in"]), schema, wanted, str(said.get("description") or ""))

    def _field(self, name: str, place: str, schema: Any, wanted: bool, about: str = "") -> Field:
        schema = schema if isinstance(schema, Mapping) else {}
        given = schema.get("type")
        kind = (
            next((each for each in given if each != "null"), "")
            if isinstance(given, list)
            else str(given or ("object" if "properties" in schema else ""))
        )
        format = str(schema.get("format") or "")
        told = "date" if format == "date" else "date and time" if format == "date-time" else _KINDS.get(kind, "")
        choices = tuple(str(each) for each in schema.get("enum") or () if each is not None)[:50]
        inner = self.followed(schema.get("items") or {}) if kind == "array" else {}
        holds = _KINDS.get(str(inner.get("type") or ("object" if "properties" in inner else "")), "") if isinstance(inner, Mapping) else ""
        within = tuple(self._body(inner, "element", "", DEEPEST - 1))[:MOST_FIELDS] if place == "body" and holds == "context" else ()
        text = (about or str(schema.get("description") or "")).strip().split("\n")[0][:200]
        return Field(name[:200], place, told, wanted, text, choices, format[:40], holds, within)

    def _body(self, schema: Any, place: str, before: str, depth: int) -> Iterator[Field]:
        """The fields of a schema, those of nested contexts with points between their names."""
        schema = self._merged(schema, 0)
        wanted = set(schema.get("required") or ())
        for name, each in (schema.get("properties") or {}).items():
            inner = self._merged(self.followed(each), 0)
            if place in ("body", "element") and inner.get("readOnly"):
                continue
            full = f"{before}{name}"
            yield self._field(full, place, inner, name in wanted)
            if depth < DEEPEST and ("properties" in inner or "allOf" in inner):
                yield from self._body(inner, place, f"{full}.", depth + 1)

    def _merged(self, schema: Any, depth: int) -> dict[str, Any]:
        """A schema with those that it is made of."""
        made: dict[str, Any] = dict(schema) if isinstance(schema, Mapping) else {}
        if depth > DEEPEST:
            return made
        for part in made.pop("allOf", None) or ():
            other = self._merged(self.followed(part), depth + 1)
            made["properties"] = {**(other.get("properties") or {}), **(made.get("properties") or {})}
            made["required"] = [*(other.get("required") or ()), *(made.get("required") or ())]
            made = {**other, **made}
        return made
