"""A form on a page of its own: what visitors fill in, with files, pictures and recordings, as one item."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from decimal import Decimal, InvalidOperation
from typing import Any, Literal

from pydantic import Field, model_validator

from metrikon.core.documents.bundling import bundled
from metrikon.core.flows.coming import Coming
from metrikon.core.flows.form import Form
from metrikon.core.records.types import RecordType
from metrikon.core.values.exact import dumps
from metrikon.core.values.text import clean
from metrikon.ports.intake import IntakeKind, Piece, Thing

LONGEST = 20_000  # characters of a text that is filled in
FILES = ("file", "picture", "recording")


class FormField(Form):
    """One field of a form."""

    label: str | None = Field(None, max_length=200, description="What stands above it; its name when left out.")
    kind: Literal["text", "long text", "number", "date", "choice", "yes/no", "file", "picture", "recording", "place"] = Field(
        "text",
        description="What is filled in. A picture may be taken with the camera, a recording made in the browser; a place is where the visitor is, if they allow it.",
    )
    options: list[str] = Field(default_factory=list, max_length=200, description="Of a choice: what may be chosen.")
    required: bool = Field(False, description="Whether it must be filled in.")
    hint: str | None = Field(None, max_length=400, description="A word of help beside it.")


class FormPage(Coming):
    """A page of its own that visitors fill in."""

    title: str = Field(..., min_length=1, max_length=200, description="What stands at its head.")
    about: str | None = Field(None, max_length=2000, description="What stands below that.")
    fields: dict[str, FormField] = Field(default_factory=dict, max_length=100, description="Its fields, by name, in their order.")
    record_type: str | None = Field(None, max_length=60, description="Or the fields of a record type, those of its lists left out.")
    anyone: bool = Field(True, description="Open to anyone with the link; else only to people who are signed in.")
    thanks: str = Field("Thank you. It has been sent.", max_length=2000, description="What is said when it was sent.")

    @model_validator(mode="after")
    def _some_fields(self) -> FormPage:
        if bool(self.fields) == (self.record_type is not None):
            raise ValueError("Say what is filled in: `fields`, or those of a record type, one of them.")
        for name, each in self.fields.items():
            if not name.isidentifier() or not name.islower():
                raise ValueError(f"{name!r} is no name of a field: small letters, figures and underscores.")
            if (each.kind == "choice") != bool(each.options):
                raise ValueError(f"The field {name} is {'a choice: say its options' if each.kind == 'choice' else 'no choice, and has options'}.")
        return self


def fields_of(said: FormPage, record_type: RecordType | None) -> dict[str, FormField]:
    """The fields of a form, as it says them or as its record type has them."""
    if record_type is None:
        return dict(said.fields)
    required = set(record_type.schema.get("required", ()))
    found: dict[str, FormField] = {}
    for each in record_type.header:
        name = each.shape.strip("/")
        if "/" in name or each.lookup:
            continue
        schema: Mapping[str, Any] = record_type.schema["properties"][name]
        options = [str(one) for one in schema.get("enum", ()) if one is not None]
        kinds = schema.get("type", "string")
        kind = next((one for one in (kinds if isinstance(kinds, list) else [kinds]) if one != "null"), "string")
        made: Any = {"number": "number", "integer": "number", "boolean": "yes/no"}.get(str(kind), "text")
        made = "choice" if options else "date" if schema.get("format") == "date" else made
        label = schema.get("title") or name.replace("_", " ").capitalize()
        found[name] = FormField(label=label, kind=made, options=options, required=name in required, hint=schema.get("description"))
    return found


@dataclass(frozen=True)
class Filled:
    """What was filled in: texts by field, and files by field with their names; what is wrong with each."""

    values: dict[str, Any]
    files: Sequence[tuple[str, str, bytes]] = ()
    wrong: dict[str, str] = field(default_factory=dict)


def filled(fields: Mapping[str, FormField], texts: Mapping[str, str], files: Mapping[str, tuple[str, bytes]], largest: int) -> Filled:
    """What a visitor sent, each value as its field has it."""
    values: dict[str, Any] = {}
    kept: list[tuple[str, str, bytes]] = []
    wrong: dict[str, str] = {}
    for name, each in fields.items():
        if each.kind in FILES:
            given = files.get(name)
            if given is not None and (given[0] or given[1]):
                told = _wrong_file(given, largest)
                wrong |= {name: told} if told else {}
                kept.append((name, clean(given[0].replace("\\", "/").rpartition("/")[2])[:200] or name, given[1]))
                values[name] = kept[-1][1]
        else:
            value, told = _value(each, texts.get(name, ""))
            wrong |= {name: told} if told else {}
            if value is not None:
                values[name] = value
        if each.required and values.get(name) in (None, "") and name not in wrong:
            wrong[name] = "It must be filled in." if each.kind not in FILES else "It is wanted."
    return Filled(values, kept, wrong)


def _wrong_file(given: tuple[str, bytes], largest: int) -> str:
    if not given[1]:
        return "This file is empty. Choose another one."
    return f"It has {len(given[1]) / 1e6:.1f} MB; at most {largest / 1e6:.0f} MB can be sent." if len(given[1]) > largest else ""


def _value(said: FormField, text: str) -> tuple[Any, str]:
    """A value, and what is wrong with it."""
    text = "\n".join(clean(line) for line in text.splitlines()).strip()
    if said.kind == "yes/no":
        return text == "yes", ""
    if not text:
        return None, ""
    if len(text) > LONGEST:
        return text[:LONGEST], f"It has {len(text):,} characters; at most {LONGEST:,} can be sent."
    if said.kind == "number":
        try:
            number = Decimal(text.replace(" ", "").replace(",", ".") if text.count(",") == 1 and "." not in text else text)
        except InvalidOperation:
            return text, "This is no number."
        return (number, "") if number.is_finite() and abs(number) < Decimal("1e15") else (text, "This number is too large.")
    if said.kind == "date":
        try:
            return date.fromisoformat(text).isoformat(), ""
        except ValueError:
            return text, "This is no date, such as 2026-11-27."
    if said.kind == "choice" and text not in said.options:
        return text, "Choose one of those that are offered."
    return text, ""


def thing_of(said: FormPage, given: Filled, key: str, now: int) -> tuple[Thing, list[Piece]]:
    """What was filled in as a thing with its one piece: its file, its files read as one, or what was written."""
    if len(given.files) == 1:
        _, name, data = given.files[0]
    elif given.files:
        name, data = said.title, bundled([("filled-in.json", dumps(given.values)), *((name, data) for _, name, data in given.files)])
    else:
        name, data = f"{said.title}.json", dumps(given.values)
    return Thing(f"form {key}", name, now, len(data), given.values), [Piece(name, data)]


KIND = IntakeKind(
    "form",
    FormPage,
    lambda said: f"what is filled in on the form “{said.title}”",
    sent="/form/",
    gives="What was filled in, by the names of the fields.",
)
