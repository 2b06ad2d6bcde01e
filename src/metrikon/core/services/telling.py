"""Operations of a service that a person tells, one at a time: for a service without a description, or one whose description leaves something out.

What is told becomes an OpenAPI 3.1 description like any other, so that nothing else knows how it came about.
"""

from __future__ import annotations

import copy
from collections.abc import Mapping
from typing import Any, Literal

from pydantic import Field, model_validator

from metrikon.core.flows.form import Form
from metrikon.core.services.description import METHODS

_TYPES: Mapping[str, dict[str, Any]] = {
    "text": {"type": "string"},
    "number": {"type": "number"},
    "yes/no": {"type": "boolean"},
    "date": {"type": "string", "format": "date"},
    "date and time": {"type": "string", "format": "date-time"},
    "list": {"type": "array", "items": {}},
    "context": {"type": "object"},
}
_WITHOUT_BODY = ("GET", "DELETE")


class Takes(Form):
    """A value that an operation takes."""

    name: str = Field(..., min_length=1, max_length=200, description="Its name; with points between the parts of a nested one.")
    kind: Literal["text", "number", "yes/no", "date", "date and time", "list", "context"] = Field("text", description="What it is.")
    wanted: bool = Field(False, description="Whether it must be given.")
    place: Literal["", "path", "query", "header", "body"] = Field(
        "", description="Where it goes; left out, into the path where that names it, else into the body, or the query of what only reads or removes."
    )


class ToldOperation(Form):
    """An operation of a service."""

    method: Literal["GET", "POST", "PUT", "PATCH", "DELETE"] = Field(..., description="Its method.")
    path: str = Field(
        ..., pattern=r"^/[^\s?#]*$", max_length=500, description="Its path, after the address of the connection; {name} where a value goes."
    )
    about: str = Field("", max_length=300, description="What it does, in a line.")
    takes: list[Takes] = Field(default_factory=list, max_length=200, description="The values that it takes.")

    @model_validator(mode="after")
    def _as_it_can_be(self) -> ToldOperation:
        for each in self.takes:
            if self.place_of(each) == "body" and self.method in _WITHOUT_BODY:
                raise ValueError(f"{self.method} has no body; {each.name} goes into the query, the path or a header.")
            if each.place == "path" and f"{{{each.name}}}" not in self.path:
                raise ValueError(f"The path {self.path} does not name {{{each.name}}}.")
        return self

    def place_of(self, each: Takes) -> str:
        """Where a value goes."""
        if each.place:
            return each.place
        return "path" if f"{{{each.name}}}" in self.path else "query" if self.method in _WITHOUT_BODY else "body"


def with_operation(data: Mapping[str, Any] | None, name: str, told: ToldOperation, title: str) -> dict[str, Any]:
    """A description with an operation that is told, in the place of one of its name, or of its method and path. `title`: of one that is made for it."""
    made = without_operation(data, name) or {"openapi": "3.1.0", "info": {"title": title, "version": "told by hand"}, "paths": {}}
    said: dict[str, Any] = {"operationId": name, "summary": told.about or name, "responses": {"2XX": {"description": "done"}}}
    given = [each for each in told.takes if told.place_of(each) != "body"]
    known = {each.name for each in given}
    given += [Takes(name=each, place="path") for each in _named_in(told.path) if each not in known]
    if given:
        said["parameters"] = [
            {"name": each.name, "in": place, "required": each.wanted or place == "path", "schema": _TYPES[each.kind]}
            for each in given
            for place in (told.place_of(each),)
        ]
    body = [each for each in told.takes if told.place_of(each) == "body"]
    if body:
        schema: dict[str, Any] = {"type": "object", "properties": {}}
        for each in body:
            _put(schema, each.name.split("."), each)
        said["requestBody"] = {"required": any(each.wanted for each in body), "content": {"application/json": {"schema": schema}}}
    made.setdefault("paths", {}).setdefault(told.path, {})[told.method.lower()] = said
    return made


def without_operation(data: Mapping[str, Any] | None, name: str) -> dict[str, Any] | None:
    """A description without an operation; None where it holds none besides."""
    if data is None:
        return None
    made = copy.deepcopy(dict(data))
    paths = made.get("paths") or {}
    for path, item in list(paths.items()):
        for method in METHODS:
            if isinstance(item, dict) and isinstance(item.get(method), Mapping) and item[method].get("operationId") == name:
                del item[method]
        if isinstance(item, dict) and not any(method in item for method in METHODS):
            del paths[path]
    return made if paths else None


def _named_in(path: str) -> list[str]:
    return [part.partition("}")[0] for part in path.split("{")[1:]]


def _put(schema: dict[str, Any], path: list[str], each: Takes) -> None:
    head, *rest = path
    if each.wanted and head not in schema.get("required", ()):
        schema.setdefault("required", []).append(head)
    if not rest:
        schema["properties"][head] = dict(_TYPES[each.kind])
        return
    inner = schema["properties"].setdefault(head, {"type": "object", "properties": {}})
    inner.setdefault("properties", {})
    _put(inner, rest, each)
