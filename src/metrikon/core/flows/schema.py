"""The JSON Schema of a flow, made from the kinds that a service knows."""

from __future__ import annotations

from typing import Any

from pydantic.json_schema import models_json_schema

from metrikon.core.flows.form import Form
from metrikon.core.flows.kind import Language
from metrikon.core.flows.model import Common, Head

DIALECT = "https://json-schema.org/draft/2020-12/schema"


def flow_schema(language: Language) -> dict[str, Any]:
    """A JSON Schema (2020-12) that flows hold."""
    kinds = {name: kind.parameters for name, kind in language.steps.items()}
    forms: dict[tuple[str, str], type[Form]] = {("", "head"): Head, ("", "common"): Common}
    forms |= {("step", name): form for name, form in kinds.items()}
    forms |= {("intake", name): form for name, form in language.intakes.items()}
    forms |= {("destination", name): form for name, form in language.destinations.items()}
    places, schema = models_json_schema([(form, "validation") for form in dict.fromkeys(forms.values())], ref_template="#/$defs/{model}")
    found: dict[str, Any] = schema.get("$defs", {})

    def of(what: str, name: str) -> dict[str, Any]:
        inner = found[places[forms[what, name], "validation"]["$ref"].rpartition("/")[2]]
        return dict(inner)

    common, head = of("", "common"), of("", "head")
    steps = {name: {"$ref": places[form, "validation"]["$ref"]} for name, form in kinds.items()}
    step = {
        "type": "object",
        "description": "One step: a name and exactly one kind.",
        "properties": {**common["properties"], **steps},
        "required": ["name"],
        "oneOf": [{"required": [name]} for name in kinds],
        "additionalProperties": False,
    }
    defs = {name: inner for name, inner in found.items() if name not in ("Head", "Common")}
    defs["Step"] = step
    for what, names in (("intake", language.intakes), ("destination", language.destinations)):
        defs[what.capitalize()] = {"oneOf": [_with_kind(of(what, name), name) for name in names]}
    return {
        "$schema": DIALECT,
        "title": "Flow",
        "description": "A flow, as its author writes it.",
        "type": "object",
        "properties": {
            **head["properties"],
            "intakes": {"type": "array", "minItems": 1, "items": {"$ref": "#/$defs/Intake"}},
            "destinations": {"type": "object", "additionalProperties": {"$ref": "#/$defs/Destination"}},
            "steps": {"type": "array", "minItems": 1, "items": {"$ref": "#/$defs/Step"}},
        },
        "required": [*head["required"], "intakes", "steps"],
        "additionalProperties": False,
        "$defs": defs,
    }


def _with_kind(schema: dict[str, Any], name: str) -> dict[str, Any]:
    properties = {"kind": {"const": name}, **schema.get("properties", {})}
    return {**schema, "properties": properties, "required": ["kind", *schema.get("required", ())]}
