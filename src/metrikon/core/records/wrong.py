"""Everything that is wrong with the text of a record type, with line and column, in the words of who wrote it. What is only unusual is let be."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from metrikon.core.feel import BadExpression, names, parse
from metrikon.core.flows.lines import place_in
from metrikon.core.records.ours import FORM, OURS
from metrikon.core.records.types import CODED, BadRecordType, record_type
from metrikon.core.values.near import closest

Where = tuple[str | int, ...]
TYPES = ("string", "number", "integer", "boolean", "array", "object", "null")
FORMATS = ("date", "time", "date-time", "email", "uri", "duration", "uuid", "hostname", "ipv4", "ipv6", "regex")
KINDS = (*CODED, "date", "amount", "currency", "sender", "title", "unit")
MEANT_TYPE = {  # what people call it elsewhere, and what JSON Schema calls it
    "text": '"string"',
    "str": '"string"',
    "date": '"string" with "format": "date"',
    "datum": '"string" with "format": "date"',
    "float": '"number"',
    "decimal": '"number"',
    "amount": '"number" with "x-metrikon": {"kind": "amount"}',
    "money": '"number" with "x-metrikon": {"kind": "amount"}',
    "int": '"integer"',
    "bool": '"boolean"',
    "list": '"array" with "items"',
    "dict": '"object" with "properties"',
}
MEANT_FORMAT = {"datum": "date", "fecha": "date", "datetime": "date-time", "timestamp": "date-time", "mail": "email", "e-mail": "email", "url": "uri"}
MEANT_KIND = {
    "money": "amount",
    "betrag": "amount",
    "price": "amount",
    "datum": "date",
    "email": "mail",
    "e-mail": "mail",
    "url": "web address",
    "telephone": "phone",
}
KEYWORDS = (  # of JSON Schema 2020-12 that stand beside a field
    *(
        "type",
        "properties",
        "required",
        "items",
        "enum",
        "const",
        "format",
        "pattern",
        "title",
        "description",
        "examples",
        "default",
        "minimum",
        "maximum",
    ),
    *("minLength", "maxLength", "minItems", "maxItems", "additionalProperties", "anyOf", "oneOf", "allOf", "not", "if", "then", "else", "multipleOf"),
    *(
        "uniqueItems",
        "exclusiveMinimum",
        "exclusiveMaximum",
        "patternProperties",
        "propertyNames",
        "prefixItems",
        "contains",
        "deprecated",
        "readOnly",
    ),
)
NEAR = 0.8  # how alike a keyword must be to be taken for a misspelt one: any name may stand in a schema


@dataclass(frozen=True)
class TypeProblem:
    """One thing that is wrong, and where: a pointer, and line and column from 1 (0 where there is none)."""

    place: str
    message: str
    line: int = 0
    column: int = 0

    def as_json(self) -> dict[str, Any]:
        return {"step": "", "place": self.place, "message": self.message, "line": self.line, "column": self.column}

    def __str__(self) -> str:
        at = f"line {self.line}, column {self.column}, " if self.line else ""
        return f"{at}{self.place or 'the record type'}: {self.message}"


def wrong_with(text: str) -> list[TypeProblem]:
    """All that is wrong with a record type, in the order of its text."""
    try:
        schema = json.loads(text)
    except json.JSONDecodeError as error:
        return [TypeProblem("", _no_json(error, text), error.lineno, error.colno)]
    except RecursionError:
        return [TypeProblem("", "It is nested too deeply to be read.", 1, 1)]
    found = [*_part(schema, ())] if isinstance(schema, dict) else []
    if not found:
        try:
            record_type(schema)
        except BadRecordType as error:
            found = [((), str(error))]
    placed = [TypeProblem("/" + "/".join(map(str, where)) if where else "", told, *place_in(text, where)) for where, told in found]
    return sorted(placed, key=lambda each: (each.line, each.column))


def _no_json(error: json.JSONDecodeError, text: str) -> str:
    rest = text[error.pos :].lstrip()
    before = text[: error.pos].rstrip()
    if not text.strip():
        return 'The file is empty. A record type is a JSON object: {"type": "object", "properties": {…}}.'
    if not text.lstrip().startswith(("{", "[")):
        return 'It is no JSON. A record type is a JSON object, which begins with { and holds "type": "object" and "properties".'
    for word, right in (("True", "true"), ("False", "false"), ("None", "null")):
        if rest.startswith(word):
            return f"JSON writes {right}, and not {word}."
    if "'" in rest[:1]:
        return "JSON has texts between double quotation marks: \" and not '."
    if rest[:1] in "“”„‟":
        return f'The quotation mark {rest[:1]} is that of an office program. Write straight ones: ".'
    if rest.startswith(("//", "#", "/*")):
        return "JSON has no remarks. Remove it; a field says what it is in its `description`."
    if rest[:1] in "}]" and before.endswith(","):
        return "A comma stands before the closing bracket. Remove it: the last entry has none."
    if "',' delimiter" in error.msg:
        return "A comma is missing between this entry and the one before it."
    if "':' delimiter" in error.msg:
        return "A colon is missing behind the name."
    if "property name" in error.msg:
        return "A name between double quotation marks is expected."
    if "Extra data" in error.msg:
        return "The object is closed before this: a bracket too many, or one too early."
    return f"It is no JSON here: {error.msg[:1].lower()}{error.msg[1:]}."


def _part(schema: Mapping[str, Any], where: Where) -> Iterator[tuple[Where, str]]:
    """What is wrong with a schema and those within it."""
    yield from _type(schema.get("type"), (*where, "type"))
    yield from _format(schema.get("format"), (*where, "format"))
    if "enum" in schema and not isinstance(schema["enum"], list):
        yield (*where, "enum"), f'The options are a list: "enum": {json.dumps(_parted(schema["enum"]), ensure_ascii=False)}.'
    yield from _ours(schema.get(OURS), (*where, OURS), schema)
    yield from _misspelt(schema, where)
    properties = schema.get("properties")
    if isinstance(properties, dict):
        yield from _properties(schema, properties, where)
    elif properties is not None:
        yield (*where, "properties"), 'The fields are an object: {"total": {"type": "number"}, …}.'
    if isinstance(schema.get("items"), dict):
        yield from _part(schema["items"], (*where, "items"))
    elif isinstance(schema.get("items"), str):
        yield (*where, "items"), f'Say what an element is: {{"type": {json.dumps(schema["items"])}}}.'


def _properties(schema: Mapping[str, Any], properties: Mapping[str, Any], where: Where) -> Iterator[tuple[Where, str]]:
    for name, part in properties.items():
        if isinstance(part, dict):
            yield from _part(part, (*where, "properties", name))
        elif not isinstance(part, bool):
            yield (
                (*where, "properties", name),
                f'A field is an object that says what it is, such as {{"type": {json.dumps(part if part in TYPES else "string")}}}.',
            )
    required = schema.get("required")
    if isinstance(required, bool) or (required is not None and not isinstance(required, list)):
        yield (*where, "required"), 'The names of fields that must be there stand in a list: "required": ["total"].'
        return
    for number, name in enumerate(required or ()):
        if name not in properties:
            near = closest(str(name), properties)
            yield (*where, "required", number), f"There is no field {name!r} that could be required{f'. Is {near!r} meant?' if near else ''}."


def _type(given: Any, where: Where) -> Iterator[tuple[Where, str]]:
    for each in given if isinstance(given, list) else [given] if given is not None else []:
        if each in TYPES:
            continue
        told = MEANT_TYPE.get(str(each).casefold()) or (f'"{near}"' if (near := closest(str(each), TYPES)) else "")
        yield where, f"{each!r} is no type{f'; {told} is meant' if told else ''}. Known: {', '.join(TYPES)}."


def _format(given: Any, where: Where) -> Iterator[tuple[Where, str]]:
    if isinstance(given, str) and given not in FORMATS:
        near = MEANT_FORMAT.get(given.casefold()) or closest(given, FORMATS)
        if near:
            yield where, f"{given!r} is no format that is known; {near!r} is meant. Known: {', '.join(FORMATS)}."


def _ours(given: Any, where: Where, schema: Mapping[str, Any]) -> Iterator[tuple[Where, str]]:
    if not isinstance(given, dict):
        return
    known = [*FORM["properties"], "default"]
    for name, value in given.items():
        if name not in known:
            near = closest(name, known)
            yield (*where, name), f"{name!r} is not known here{f'. Is {near!r} meant?' if near else '.'} Known: {', '.join(known)}."
        elif name in ("labels", "terms") and isinstance(value, str):
            yield (*where, name), f"It is a list of words: {json.dumps(_parted(value), ensure_ascii=False)}."
    kind = given.get("kind")
    if isinstance(kind, str) and kind not in KINDS:
        near = MEANT_KIND.get(kind.casefold()) or closest(kind, KINDS)
        yield (*where, "kind"), f"{kind!r} is no kind{f'; {near!r} is meant' if near else ''}. Known: {', '.join(KINDS)}."
    for number, rule in enumerate(given.get("rules") or () if isinstance(given.get("rules"), list) else ()):
        if isinstance(rule, dict) and isinstance(rule.get("holds"), str):
            yield from ((((*where, "rules", number, "holds")), told) for told in _condition(rule["holds"]))
    if isinstance(given.get("default"), str):
        yield from (((*where, "default"), told) for told in _condition(given["default"]))


def _condition(text: str) -> Iterator[str]:
    try:
        names(parse(text))
    except BadExpression as error:
        yield f"{text!r} is no FEEL expression: {error}."


def _misspelt(schema: Mapping[str, Any], where: Where) -> Iterator[tuple[Where, str]]:
    for name in schema:
        if name in KEYWORDS or name.startswith(("x-", "$")):
            continue
        near = closest(name, KEYWORDS, NEAR)
        if near is not None and near not in schema:
            yield (*where, name), f"{name!r} says nothing in a record type. Is {near!r} meant?"
    if "label" in schema and OURS not in schema:
        yield (*where, "label"), f'Words by which a document names the field stand in "{OURS}": {{"labels": […]}}.'


def _parted(value: Any) -> list[str]:
    """A text with commas as the list that is meant."""
    return [each.strip() for each in str(value).split(",") if each.strip()]
