"""What the types of the API do not say of it by themselves: bodies that are files and texts, and the problems that any request may meet."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from functools import wraps
from typing import Any

from flask import request
from flask_openapi3 import APIBlueprint, OpenAPI

from metrikon.core.values.near import meant
from metrikon.service.problems import Problem

_ANY_FILE: dict[str, Any] = {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}}
_FORM: dict[str, Any] = {
    "multipart/form-data": {"schema": {"type": "object", "properties": {"file": {"type": "string", "format": "binary"}}, "required": ["file"]}}
}
_YAML: dict[str, Any] = {"application/yaml": {"schema": {"type": "string"}}, "text/plain": {"schema": {"type": "string"}}}
_SCHEMA: dict[str, Any] = {"application/schema+json": {"schema": {"type": "object"}}}
_TABLE: dict[str, Any] = {**_YAML, "application/xml": {"schema": {"type": "string"}}}
BODIES: dict[str, tuple[str, dict[str, Any], bool]] = {  # by operation: what it is, its kinds of content, and whether it must be there
    "uploadItem": ("The file itself, or a form with one file.", {**_ANY_FILE, **_FORM}, True),
    "putFlow": ("The flow (YAML 1.2).", _YAML, True),
    "checkFlow": ("A flow (YAML 1.2).", _YAML, True),
    "importFlow": ("The file that was exported.", {"application/zip": {"schema": {"type": "string", "format": "binary"}}}, True),
    "tryFlow": ("A file to try it on, where no item and no sample is named.", _ANY_FILE, False),
    "estimateFile": ("The file.", _ANY_FILE, True),
    "keepSample": ("The file of the sample, where no item is named.", _ANY_FILE, False),
    "putRecordType": ("The record type (JSON Schema 2020-12).", _SCHEMA, True),
    "touchedFlows": ("The record type as it would be; without one, as it is.", _SCHEMA, False),
    "meaningOfFields": ("A record type (JSON Schema 2020-12).", _SCHEMA, True),
    "putWayIn": ("The way in (YAML 1.2).", _YAML, True),
    "mappingOfFlow": ("A flow (YAML 1.2).", _YAML, True),
    "putDecisionTable": ("The decision table (YAML 1.2, or DMN 1.5 XML).", _TABLE, True),
}
PARAMETERS: dict[str, list[dict[str, Any]]] = {
    "uploadItem": [
        {
            "name": "Idempotency-Key",
            "in": "header",
            "schema": {"type": "string", "maxLength": 160},
            "description": "The same key with the same file gets the same answer; with another file it is refused.",
        },
    ]
}
_FILES = {"exportFlow": "application/zip"}  # answers that are files
_PROBLEM = {
    "description": "A problem (RFC 9457): what happened, where, what to do.",
    "content": {"application/problem+json": {"schema": {"$ref": "#/components/schemas/ProblemView"}}},
}
PROBLEM_SCHEMA: dict[str, Any] = {
    "title": "ProblemView",
    "description": "Problem details (RFC 9457). More entries may stand beside these, such as `places` or `problems`.",
    "type": "object",
    "properties": {
        "type": {"type": "string", "description": "urn:metrikon:problem: and what kind of problem it is."},
        "title": {"type": "string"},
        "status": {"type": "integer"},
        "detail": {"type": "string", "description": "What happened, where, and what to do."},
    },
    "required": ["type", "title", "status", "detail"],
    "additionalProperties": True,
}


_WANTED: ContextVar[bool] = ContextVar("described", default=False)


class Room(APIBlueprint):
    """Operations of one kind. They are described when somebody wants the description: making it takes longer than all else of a start."""

    def __init__(self, *given: Any, **more: Any) -> None:
        super().__init__(*given, doc_ui=_WANTED.get(), **more)

    def create_view_func(self, func: Any, header: Any, cookie: Any, path: Any, query: Any, *given: Any, **more: Any) -> Any:  # type: ignore[override]
        """As it is made, but that a name in the address which the operation does not know is refused, never left out in silence."""
        view = super().create_view_func(func, header, cookie, path, query, *given, **more)
        known = sorted(query.model_fields) if query is not None else []

        @wraps(view)
        def asked(**parts: Any) -> Any:
            for name in request.args if request.path.startswith("/api/") else ():  # who watches whether the service lives may put there what it likes
                if name not in known:
                    told = f"Known: {', '.join(known)}." if known else "Nothing can be said there."
                    raise Problem(422, "invalid-request", f"{name[:60]!r} in the address is not known here{meant(name, known)} {told}")
            return view(**parts)

        return asked


@contextmanager
def wanted() -> Iterator[None]:
    """What is made within it is described."""
    before = _WANTED.set(True)
    try:
        yield
    finally:
        _WANTED.reset(before)


class Described(OpenAPI):
    """The application, with its whole description where that is wanted."""

    def __init__(self, *given: Any, **more: Any) -> None:
        super().__init__(*given, doc_ui=_WANTED.get(), **more)

    def generate_spec_json(self) -> None:
        super().generate_spec_json()  # type: ignore[no-untyped-call]
        complete(self.spec_json)


def complete(found: dict[str, Any]) -> None:
    """Add what is missing to a description."""
    schemas = found.setdefault("components", {}).setdefault("schemas", {})
    schemas["ProblemView"] = PROBLEM_SCHEMA
    schemas.pop("ValidationErrorModel", None)
    for operations in found["paths"].values():
        for operation in operations.values():
            name = operation.get("operationId", "")
            operation["responses"].update({"422": _PROBLEM, "default": _PROBLEM})
            if name in BODIES:
                text, content, needed = BODIES[name]
                operation["requestBody"] = {"description": text, "content": content, "required": needed}
            if name in PARAMETERS:
                operation["parameters"] = [*operation.get("parameters", ()), *PARAMETERS[name]]
            if name in _FILES:
                content = {_FILES[name]: {"schema": {"type": "string", "format": "binary"}}}
                operation["responses"]["200"] = {"description": "OK", "content": content}
