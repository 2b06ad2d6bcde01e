"""What parameters hold and what steps give, in words for the reference, made from their JSON Schemas."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from pydantic.json_schema import models_json_schema
from pydantic_core import PydanticUndefined

from metrikon.app.kinds import Kinds
from metrikon.core.flows.checking import checked
from metrikon.core.flows.form import Form
from metrikon.core.flows.kind import Kind, Known, Schema
from metrikon.core.flows.model import Common
from metrikon.core.flows.verify import results_of
from metrikon.core.records.types import record_type
from metrikon.core.values.exact import loads
from metrikon.demo import scenario

DEEPEST = 2  # levels of a result, and of parameters within parameters, that are listed
WORDS = {"string": "text", "number": "number", "integer": "whole number", "boolean": "yes/no", "null": "", "object": "mapping", "array": "list"}
BEFORE = """\
metrikon: 1
name: samples
intakes: [{kind: upload}]
destinations: {ledger: {kind: csv, path: ledger.csv}}
steps:
- {name: paper, read: {}}
- {name: found, extract: {document: "${paper}", record_type: invoice}}
- {name: checked, check: {record: "${found}"}}
- {name: by_month, tally: {records: invoice, by: [currency], sum: [total]}}
- {name: month, set: {rows: "${by_month.rows}"}}
- name: sample
"""


def whole_sample(kind: Kind) -> str:
    """The sample of a kind as a step of a flow, after steps that read, extract and check a paper."""
    return BEFORE + "".join(f"  {line}\n" for line in kind.sample.splitlines())


def known_for_samples() -> Known:
    """What the samples of kinds rest on."""
    return Known({"invoice": record_type(loads(scenario.invoice_type()), "invoice")}, whole=False)


def gives(kind: Kind, kinds: Kinds) -> Iterator[str]:
    """What a step of a kind gives, as that of its sample does: an entry a line."""
    known = known_for_samples()
    flow, problems = checked(whole_sample(kind), kinds.language, known)
    assert flow is not None, problems
    yield from _entries(results_of(flow, known).get("sample"), "", 1)


def _entries(schema: Schema | None, before: str, depth: int) -> Iterator[str]:
    if not schema:
        return
    if schema.get("type") == "array":
        yield from _entries(schema.get("items"), f"{before}[1]", depth)
        return
    for name, inner in (schema.get("properties") or {}).items():
        path = f"{before}.{name}" if before else name
        about = str(inner.get("description") or "") if name != "record" else "The values of the record, by the fields of its type."
        yield f"- `{path}` {in_words(inner)}{f': {about}' if about else ''}"
        if depth < DEEPEST and name != "record":
            yield from _entries(inner, path, depth + 1)


def parameters(form: type[Form]) -> Iterator[str]:
    """The parameters of a form, one a line, each with its shape; those of forms within it beneath."""
    forms: list[type[Form]] = list(dict.fromkeys((Common, form)))  # steps within it are those of `Common`
    places, found = models_json_schema([(each, "validation") for each in forms], ref_template="#/$defs/{model}")
    defs: Mapping[str, Any] = found["$defs"]
    schema = defs[places[form, "validation"]["$ref"].rpartition("/")[2]]
    required = schema.get("required", ())
    for name, field in form.model_fields.items():
        shown = field.alias or name
        inner = schema["properties"].get(shown) or {}
        default = None if field.default is PydanticUndefined else field.default
        yield f"- `{shown}` {in_words(inner, defs)} ({_need(default, required=shown in required)}) {field.description or ''}".rstrip()
        yield from _within(inner, defs, 1)


def _need(default: Any, *, required: bool) -> str:
    """Whether a parameter must be given, and what counts where it is not."""
    if required:
        return "required"
    if isinstance(default, bool):
        return f"default `{'true' if default else 'false'}`"
    return f"default `{default}`" if default not in (None, "", [], {}) else "optional"


def _within(schema: Mapping[str, Any], defs: Mapping[str, Any], depth: int) -> Iterator[str]:
    """The parameters of a form that stands within a parameter, or in the elements of its list."""
    found = _form_in(schema, defs)
    if found is None or depth > DEEPEST:
        return
    for name, inner in found["properties"].items():
        need = _need(inner.get("default"), required=name in found.get("required", ()))
        yield f"{'  ' * depth}- `{name}` {in_words(inner, defs)} ({need}) {inner.get('description', '')}".rstrip()
        yield from _within(inner, defs, depth + 1)


def _form_in(schema: Mapping[str, Any], defs: Mapping[str, Any]) -> Mapping[str, Any] | None:
    for each in _ways(schema):
        if "$ref" in each:
            found = defs.get(str(each["$ref"]).rpartition("/")[2])
            return found if found is not None and found.get("properties") else None
        if each.get("type") == "array" and isinstance(each.get("items"), Mapping):
            return _form_in(each["items"], defs)
    return None


def _ways(schema: Mapping[str, Any]) -> list[Mapping[str, Any]]:
    """The forms that a value may have, nothing aside."""
    every = schema.get("anyOf") or schema.get("oneOf") or [schema]
    return [each for each in every if each.get("type") != "null"]


def in_words(schema: Mapping[str, Any], defs: Mapping[str, Any] | None = None) -> str:
    """What a JSON Schema takes, in a few words: "list of text", "one of bars, lines"."""
    told = dict.fromkeys(_one(each, defs or {}) for each in _ways(schema))
    return " or ".join(each for each in told if each) or "any value"


def _one(schema: Mapping[str, Any], defs: Mapping[str, Any]) -> str:
    if "$ref" in schema:
        name = str(schema["$ref"]).rpartition("/")[2]
        return "step" if name == "Step" else in_words(defs[name], defs) if name in defs else "mapping"
    if "const" in schema:
        return f"`{schema['const']}`"
    if "enum" in schema:
        return f"one of {', '.join(f'`{each}`' for each in schema['enum'])}"
    if schema.get("type") == "array":
        items = schema.get("items")
        return f"list of {in_words(items, defs)}" if isinstance(items, Mapping) and items else "list"
    if schema.get("type") == "object":
        values = schema.get("additionalProperties")
        return f"mapping of names to {in_words(values, defs)}" if isinstance(values, Mapping) and values and "properties" not in schema else "mapping"
    kinds = schema.get("type")
    if isinstance(kinds, list):
        return " or ".join(WORDS[each] for each in kinds if WORDS.get(each))
    return WORDS.get(str(kinds), "any value")
