"""Record types: JSON Schema 2020-12, with what we add to it under `x-metrikon`.

On a property, `x-metrikon` may hold: `labels` (how documents name the field), `means` (for each
option of an enum, the words that stand for it), `kind` ("date", "amount", "currency", "sender",
"title", "phone", "iban", "vat number", "article number", "unit"), `terms` (its business terms in EN 16931), `evidence` (false for values that are not printed). On the type itself: `key` (pointers
that tell one record from another), `sums` and `order` (see `checks`).
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property, lru_cache
from typing import Any

import jsonschema_rs
from jsonschema import Draft202012Validator
from jsonschema.exceptions import SchemaError, ValidationError
from jsonschema.validators import extend
from referencing import Registry

from metrikon.core.feel import BadExpression
from metrikon.core.feel.parse import parse
from metrikon.core.records.manner import COPIED, manner_of
from metrikon.core.records.ours import OURS, misfit
from metrikon.core.records.pointers import escape, shape, steps
from metrikon.core.records.shapes import CURRENCY_WORDS, kind_of_form, kind_of_pattern, takes
from metrikon.core.records.sound import Unsound, check_sound, quick, target, without_yes_and_no
from metrikon.core.values.exact import dumps, loads
from metrikon.core.values.number_words import plain
from metrikon.core.values.text import name_key

CODED = ("iban", "vat number", "article number", "phone", "mail", "web address", "time", "moment", "month")
DEEPEST = 12


_JOINT = re.compile(r"[_\-\s]+|(?<=[a-z0-9])(?=[A-Z])|(?<=[A-Z])(?=[A-Z][a-z])")


def worded(name: str) -> str:
    """A name as words in small letters: valid_until, valid-until and validUntil are the same."""
    return " ".join(part.lower() for part in _JOINT.split(name) if part)


class BadRecordType(ValueError):
    """A record type that cannot be used; the message says where and why."""


_OF_FORMAT = {"date": "date", "email": "mail", "uri": "web address", "time": "time", "date-time": "moment"}


@dataclass(frozen=True, eq=False)
class Field:
    """One leaf of a record type. `shape` is its pointer with * for list positions."""

    shape: str
    name: str
    schema: Mapping[str, Any]
    required: bool

    @cached_property
    def ours(self) -> Mapping[str, Any]:
        return self.schema.get(OURS) or {}

    @cached_property
    def worded(self) -> str:
        """Its name as words: of what is joined by lines or by capitals."""
        return worded(self.name)

    @cached_property
    def within(self) -> str | None:
        """The name of the object that it stands in, as words; None for one that stands in the record itself or in a row."""
        above = self.shape.rsplit("/", 2)[-2] if self.shape.count("/") > 1 else ""
        return worded(above) if above not in ("", "*") else None

    @cached_property
    def title(self) -> str:
        return str(self.schema.get("title") or self.worded.capitalize())

    @cached_property
    def labels(self) -> tuple[str, ...]:
        """How documents name this field; its title and name when nothing is given."""
        given = tuple(self.ours.get("labels") or ())
        return given or tuple(dict.fromkeys((self.title, self.worded)))

    @cached_property
    def kind(self) -> str:
        """What its values are: "date", "amount", "currency", "choice", "yes/no", "sender", "title", "text", or a kind of `extraction.forms`."""
        if "kind" in self.ours:
            return str(self.ours["kind"])
        if self.schema.get("format") in _OF_FORMAT:
            return _OF_FORMAT[str(self.schema["format"])]
        types = self.types
        if "number" in types or "integer" in types:
            return "amount"
        if "boolean" in types:
            return "yes/no"
        if "enum" in self.schema:
            return "choice"
        by_pattern = kind_of_pattern(str(self.schema["pattern"])) if self.schema.get("pattern") else None
        if by_pattern == "currency" and not self.names_money:
            return "text"
        by_form = None if self.schema.get("pattern") else kind_of_form(str(self.schema.get("description") or ""))
        return by_pattern or by_form or "text"

    @cached_property
    def names_money(self) -> bool:
        """Whether its name or description speaks of a currency."""
        said = plain(" ".join([self.name, str(self.schema.get("title") or ""), str(self.schema.get("description") or "")]))
        return any(word in said for word in CURRENCY_WORDS)

    @cached_property
    def manner(self) -> str:
        """How it comes by its value: see `records.manner`."""
        return manner_of(self.schema, self.kind, self.name, self.ours)

    @property
    def copied(self) -> bool:
        return self.manner == COPIED

    @cached_property
    def nullable(self) -> bool:
        """Whether null is an answer."""
        return "null" in self.types or (None in self.schema["enum"] if "enum" in self.schema else False)

    @cached_property
    def types(self) -> tuple[str, ...]:
        given = self.schema.get("type", "string")
        return (given,) if isinstance(given, str) else tuple(given)

    @property
    def needs_evidence(self) -> bool:
        return bool(self.ours.get("evidence", True))

    @cached_property
    def lookup(self) -> Mapping[str, str]:
        """The list that says its value, by the value at which pointer, in which column; nothing for most fields."""
        return self.ours.get("lookup") or {}


@dataclass(frozen=True)
class RecordType:
    """A checked record type with its leaves laid out."""

    name: str
    schema: Mapping[str, Any]
    fields: tuple[Field, ...] = field(default=())

    @cached_property
    def by_shape(self) -> Mapping[str, Field]:
        return {each.shape: each for each in self.fields}

    @cached_property
    def header(self) -> tuple[Field, ...]:
        """Fields outside any list."""
        return tuple(each for each in self.fields if "/*" not in each.shape)

    @cached_property
    def lists(self) -> Mapping[str, tuple[Field, ...]]:
        """For each list of objects (by the pointer of the list) the fields of its rows that are read; those that are looked up are not."""
        found: dict[str, list[Field]] = {}
        for each in self.fields:
            if each.shape.count("/*") == 1 and "/*/" in each.shape and not each.lookup:
                found.setdefault(each.shape.split("/*/")[0], []).append(each)
        return {pointer: tuple(fields) for pointer, fields in found.items()}

    @property
    def ours(self) -> Mapping[str, Any]:
        return self.schema.get(OURS) or {}

    def part(self, pointer: str) -> Mapping[str, Any]:
        """The schema at the pointer of a field or list that stands in no list, also within objects."""
        found = self.schema
        for step in steps(pointer):
            found = resolved(self.schema, found["properties"][step])
        return found

    def titled(self, pointer: str) -> str:
        """What a person calls the value at a pointer or shape; the number of its row with it."""
        field = self.by_shape.get(shape(pointer))
        if field is None:
            return pointer.strip("/").replace("/", " ").capitalize() or "The record"
        row = next((str(int(part) + 1) for part in pointer.split("/") if part.isdecimal()), "sum of rows")
        return f"{field.title} (row {row})" if "/*" in field.shape else field.title

    @cached_property
    def has_dates(self) -> bool:
        return any(each.schema.get("format") == "date" for each in self.fields)

    @cached_property
    def has_codes(self) -> bool:
        """Whether values of some field can be told right or wrong by themselves."""
        return any(each.kind in CODED for each in self.fields)

    @property
    def list_names(self) -> list[str]:
        """The lists of known values that its fields name."""
        named = [str(name) for each in self.fields for name in (each.ours.get("list"), each.lookup.get("list")) if name]
        return list(dict.fromkeys(named))

    @cached_property
    def has_lists(self) -> bool:
        """Whether lists of known values have a say in some field."""
        return any("list" in each.ours or each.lookup for each in self.fields)

    @cached_property
    def rows_have_dates(self) -> bool:
        return any(each.schema.get("format") == "date" for each in self.fields if "/*" in each.shape)

    @cached_property
    def packed(self) -> bytes:
        """Name and schema as JSON, to be sent where the type is needed."""
        return dumps([self.name, self.schema])

    @cached_property
    def asked(self) -> Mapping[str, Any]:
        """The schema as a model gets it: our annotations cut down to the labels, which help it."""
        found: Mapping[str, Any] = _asked(self.schema)
        return found

    @cached_property
    def spellings(self) -> Mapping[str, Mapping[str, str]]:
        """For each object, by its shape, its properties under all the ways in which their names may be written."""
        return dict(_objects(self.schema, self.schema, "", 0))

    def with_nulls(self, record: Mapping[str, Any]) -> Mapping[str, Any]:
        """The record as its schema is tried on it: what is required and may be null is there, and so are lists that may be empty."""
        found: Mapping[str, Any] = _with_nulls(self.schema, self.schema, record, 0)
        return found

    @cached_property
    def validator(self) -> Any:
        """Says all that is wrong with a record, in words that can be worked with."""
        return _InWords(self.schema, registry=Registry())

    @cached_property
    def quick(self) -> Any:
        """Says whether anything is wrong with a record, fifty times as fast; knows `Decimal`."""
        return quick(self.schema)


def _linear_pattern(validator: Any, pattern: str, instance: Any, schema: Any) -> Iterator[ValidationError]:
    if validator.is_type(instance, "string") and not takes(pattern, instance):
        yield ValidationError(f"{instance!r} does not have the form {pattern}.")


def _linear_properties(validator: Any, patterns: Mapping[str, Any], instance: Any, schema: Any) -> Iterator[ValidationError]:
    if validator.is_type(instance, "object"):
        for pattern, part in patterns.items():
            for name, value in instance.items():
                if takes(pattern, name):
                    yield from validator.descend(value, part, path=name, schema_path=pattern)


# patterns are tried in time that grows with the text alone
_InWords: Any = extend(Draft202012Validator, {"pattern": _linear_pattern, "patternProperties": _linear_properties})  # type: ignore[no-untyped-call]


def record_type(schema: Any, name: str | None = None) -> RecordType:
    """A record type from its JSON Schema. Raises `BadRecordType` naming the place."""
    if not isinstance(schema, dict):
        raise BadRecordType("A record type is a JSON object holding a JSON Schema (2020-12).")
    try:
        check_sound(schema)
        if not jsonschema_rs.meta.is_valid(schema):
            Draft202012Validator.check_schema(schema)  # says why
    except Unsound as error:
        raise BadRecordType(str(error)) from error
    except SchemaError as error:
        place = "/" + "/".join(str(part) for part in error.absolute_path)
        raise BadRecordType(f"The record type is no valid JSON Schema at {place}: {error.message}") from error
    if schema.get("type") != "object" or not schema.get("properties"):
        raise BadRecordType('A record type describes an object: "type": "object" with "properties".')
    schema = without_yes_and_no(schema)
    found = tuple(_fields(schema, schema, "", True, 0))
    for number, rule in enumerate((schema.get(OURS) or {}).get("rules", ())):
        try:
            parse(str(rule["holds"]))
        except (BadExpression, KeyError, TypeError) as error:
            raise BadRecordType(f"The record type has a rule that is no FEEL condition, at /{OURS}/rules/{number}: {error}.") from error
    for each in found:
        if "default" in each.ours:
            try:
                parse(str(each.ours["default"]))
            except BadExpression as error:
                raise BadRecordType(f"The default of {each.shape} is no FEEL expression: {error}.") from error
        _check_lookup(each, {other.shape for other in found})
    title = name or str(schema.get("title") or "record")
    return RecordType(title, schema, found)


def _check_lookup(field: Field, shapes: set[str]) -> None:
    if not field.lookup:
        return
    missing = [part for part in ("list", "by", "column") if not isinstance(field.lookup.get(part), str)]
    if missing:
        raise BadRecordType(f"The lookup of {field.shape} lacks {', '.join(missing)}. It needs list, by (a pointer) and column.")
    by, rows = field.lookup["by"], "/*/" in field.shape
    if by not in shapes or ("/*/" in by and (not rows or by.split("/*/")[0] != field.shape.split("/*/")[0])):
        raise BadRecordType(f"The lookup of {field.shape} is by {by!r}, which is no field beside it. Known: {', '.join(sorted(shapes))}.")


@lru_cache(maxsize=64)
def unpacked_type(packed: bytes) -> RecordType:
    """The record type that `packed` stands for; known ones are kept."""
    name, schema = loads(packed)
    return record_type(schema, str(name))


def _asked(schema: Any) -> Any:
    if isinstance(schema, Mapping):
        found = {name: _asked(part) for name, part in schema.items() if name not in (OURS, "$schema")}
        labels = (schema.get(OURS) or {}).get("labels")
        if labels:
            found["x-labels"] = list(labels)[:4]
        return found
    return [_asked(part) for part in schema] if isinstance(schema, list) else schema


def _fields(whole: Mapping[str, Any], schema: Mapping[str, Any], shape: str, required: bool, depth: int) -> Iterator[Field]:
    if depth > DEEPEST:
        raise BadRecordType(f"The record type nests deeper than {DEEPEST} levels at {shape or '/'}.")
    schema = resolved(whole, schema)
    if wrong := misfit(schema):
        raise BadRecordType(f"The record type says something that cannot be used, at {shape or '/'}: {wrong}.")
    if "properties" in schema:
        needed = set(schema.get("required", ()))
        for name, part in schema["properties"].items():
            yield from _fields(whole, part, f"{shape}/{escape(name)}", name in needed, depth + 1)
    elif "items" in schema:
        yield from _fields(whole, schema["items"], f"{shape}/*", required, depth + 1)
    else:
        yield Field(shape, shape.rsplit("/", 1)[-1], schema, required)


def _objects(whole: Mapping[str, Any], schema: Mapping[str, Any], shape: str, depth: int) -> Iterator[tuple[str, Mapping[str, str]]]:
    schema = resolved(whole, schema)
    if "properties" in schema and depth <= DEEPEST:
        yield shape, _spelled(schema["properties"])
        for name, part in schema["properties"].items():
            yield from _objects(whole, part, f"{shape}/{escape(name)}", depth + 1)
    elif "items" in schema and depth <= DEEPEST:
        yield from _objects(whole, schema["items"], f"{shape}/*", depth + 1)


def _with_nulls(whole: Mapping[str, Any], schema: Mapping[str, Any], value: Any, depth: int) -> Any:
    if depth > DEEPEST or not isinstance(value, dict | list):
        return value
    schema = resolved(whole, schema)
    if isinstance(value, list):
        return [_with_nulls(whole, schema.get("items", {}), part, depth + 1) for part in value]
    properties = schema.get("properties") or {}
    made = {name: _with_nulls(whole, properties.get(name, {}), part, depth + 1) for name, part in value.items()}
    for name in schema.get("required", ()):
        if name not in made and name in properties:
            part = resolved(whole, properties[name])
            if admits_null(part):
                made[name] = None
            elif "items" in part and not part.get("minItems"):
                made[name] = []
    return made


def admits_null(schema: Mapping[str, Any]) -> bool:
    """Whether null is a value that a schema takes."""
    given = schema.get("type")
    return given == "null" or (isinstance(given, list) and "null" in given) or (None in schema["enum"] if "enum" in schema else False)


def _spelled(properties: Mapping[str, Any]) -> dict[str, str]:
    """The ways in which a model may write the name of each property: its own, its title, its labels; what is open is left out."""
    found: dict[str, str | None] = {}
    for name, schema in properties.items():
        also = {str(schema.get("title", "")), *((schema.get("x-metrikon") or {}).get("labels") or ())} if isinstance(schema, Mapping) else set()
        for key in {name_key(text) for text in also if text} - {name_key(name)}:
            found[key] = name if key not in found else None
    found.update({name_key(name): name for name in properties})
    return {key: name for key, name in found.items() if name is not None}


JOINING = ("allOf", "oneOf", "anyOf")


def _joined(whole: Mapping[str, Any], schema: Mapping[str, Any]) -> Mapping[str, Any]:
    """A schema with its alternatives laid beside each other, so that each of their fields can be read.

    Which alternative holds is left to validation; what only some of them require is not required here.
    """
    made = {name: part for name, part in schema.items() if name not in JOINING}
    every = [resolved(whole, part) for part in schema.get("allOf", ())]
    some = [resolved(whole, part) for name in ("oneOf", "anyOf") for part in schema.get(name, ())]
    properties = {name: part for each in [*every, *some] for name, part in (each.get("properties") or {}).items()}
    if properties:
        made["properties"] = {**properties, **(made.get("properties") or {})}
        needed = set.intersection(*(set(each.get("required", ())) for each in some)) if some else set()
        made["required"] = sorted({*made.get("required", ()), *(name for each in every for name in each.get("required", ())), *needed})
        return made
    for each in every:
        made = {**each, **made}
    kinds = {kind for each in some for kind in ([each["type"]] if isinstance(each.get("type"), str) else each.get("type", ()))}
    options = [option for each in some for option in each.get("enum", [each["const"]] if "const" in each else ())]
    if options and all("enum" in each or "const" in each or each.get("type") == "null" for each in some):
        made["enum"] = [*options, None] if "null" in kinds and None not in options else options
    elif kinds:
        made.setdefault("type", sorted(kinds) if len(kinds) > 1 else kinds.pop())
    formats = {each["format"] for each in some if "format" in each}
    if len(formats) == 1:
        made.setdefault("format", formats.pop())
    items = next((each["items"] for each in some if "items" in each), None)
    return {**made, "items": items} if items is not None and "items" not in made else made


def resolved(whole: Mapping[str, Any], schema: Mapping[str, Any]) -> Mapping[str, Any]:
    """A schema with its local `$ref` followed; references elsewhere are never fetched."""
    for _ in range(DEEPEST):
        reference = schema.get("$ref")
        if reference is None:
            return _joined(whole, schema) if any(name in schema for name in JOINING) else schema
        schema = {**target(whole, reference), **{k: v for k, v in schema.items() if k != "$ref"}}
    raise BadRecordType("The record type refers to itself without end.")
