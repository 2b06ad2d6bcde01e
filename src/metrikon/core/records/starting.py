"""A record type started from what is at hand: an example row, the heads of a sheet, or a sample document."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Any

from metrikon.core.documents.model import Document, Line, Page
from metrikon.core.records.types import OURS
from metrikon.core.values.dates import date_readings, parse_date
from metrikon.core.values.numbers import currency_in, parse_number
from metrikon.core.values.phones import parse_phone
from metrikon.core.values.text import clean, fold
from metrikon.core.values.web import parse_address, parse_mail

MOST = 60  # fields
LONGEST_LABEL = 40
_COLON = re.compile(r"^([^:]{2,40}):\s*(.{1,200})$")
_NOT_NAME = re.compile(r"[^a-z0-9]+")


def from_row(row: Mapping[str, Any], title: str = "record") -> dict[str, Any]:
    """The JSON Schema of a record like this row: names and types from its values, the values as examples."""
    properties: dict[str, Any] = {}
    for head, value in list(row.items())[:MOST]:
        name = field_name(str(head), properties)
        schema = _from_value(value)
        properties[name] = {"title": clean(str(head))[:80], **schema, OURS: {"labels": [clean(str(head)).lower()]}}
    return _record(title, properties)


def from_heads(heads: Sequence[str], title: str = "record") -> dict[str, Any]:
    """The same from the heads of a sheet alone: every field is text."""
    return from_row({head: None for head in heads if clean(head)}, title)


def from_document(document: Document, title: str = "record") -> dict[str, Any]:
    """What fields a sample holds: its labels with the values beside them, and a list for each table with heads."""
    properties: dict[str, Any] = {}
    in_tables = {(cell.page, n) for table in document.tables for row in (table.header, *table.rows) for cell in row for n in cell.words}
    for page in document.pages:
        for line in page.lines:
            if (page.number, line.first) in in_tables:
                continue
            for label, value in _pairs(page, line):
                if len(properties) < MOST and not any(part.get("title") == label for part in properties.values()):
                    name = field_name(label, properties)
                    properties[name] = {"title": label, **_from_text(value), OURS: {"labels": [label.lower()]}}
    for number, table in enumerate(document.tables, 1):
        heads = [cell.text or f"Column {n}" for n, cell in enumerate(table.header, 1)]
        first = [next((row[n].text for row in table.rows if row[n].text), "") for n in range(len(heads))]
        inner: dict[str, Any] = {}
        for head, text in zip(heads, first, strict=True):
            inner[field_name(head, inner)] = {"title": head, **_from_text(text), OURS: {"labels": [head.lower()]}}
        name = "lines" if number == 1 else f"lines_{number}"
        items = {"type": "object", "properties": inner}
        properties[name] = {"title": "Lines" if number == 1 else f"Lines {number}", "type": "array", "items": items}
    return _record(title, properties)


def field_name(label: str, taken: Mapping[str, Any]) -> str:
    """A name for a field, from how people call it: "Invoice No." gives invoice_no."""
    name = _NOT_NAME.sub("_", fold(label.replace("ß", "ss")).casefold()).strip("_")[:40] or "field"
    name = name if not name[0].isdecimal() else f"field_{name}"
    return name if name not in taken else next(f"{name}_{n}" for n in range(2, 1000) if f"{name}_{n}" not in taken)


def _pairs(page: Page, line: Line) -> list[tuple[str, str]]:
    """Label and value in a line: two segments beside each other, or a text with a colon."""
    found = []
    segments = [segment.text for segment in line.segments]
    for text in segments:
        match = _COLON.match(text)
        if match and not match[2].startswith("//"):
            found.append((clean(match[1]), clean(match[2])))
    if not found and len(segments) in (2, 3) and 2 <= len(segments[-2]) <= LONGEST_LABEL and not any(c.isdecimal() for c in segments[-2][:3]):
        found.append((clean(segments[-2]).rstrip(" :"), clean(segments[-1])))
    return [(label, value) for label, value in found if label and any(c.isalnum() for c in value) and any(c.isalpha() for c in label)]


def _from_value(value: Any) -> dict[str, Any]:
    if value is None:
        return {"type": "string"}
    if isinstance(value, bool):
        return {"type": "boolean"}
    if isinstance(value, int | float | Decimal):
        return {"type": "number", "examples": [value]}
    if isinstance(value, list):
        rows = [each for each in value if isinstance(each, Mapping)]
        return {"type": "array", "items": _plain(from_row(rows[0])) if rows else {"type": "string"}}
    if isinstance(value, Mapping):
        return _plain(from_row(value))
    return _from_text(str(value))


def _plain(schema: dict[str, Any]) -> dict[str, Any]:
    return {name: part for name, part in schema.items() if name in ("type", "properties")}


def _from_text(text: str) -> dict[str, Any]:
    """Type and example of a printed value."""
    text = clean(text)[:120]
    if not text:
        return {"type": "string"}
    if date_readings(text):
        found = parse_date(text, True)
        return {"type": "string", "format": "date", "examples": [found.isoformat() if found else text]}
    if parse_mail(text):
        return {"type": "string", "format": "email", "examples": [parse_mail(text)]}
    if text.lower() in ("yes", "no", "true", "false", "ja", "nein"):
        return {"type": "boolean"}
    bare = text
    for word in text.split():
        bare = bare.replace(word, "").strip() if currency_in(word) == word else bare
    number = parse_number(text) if parse_number(text) is not None else parse_number(bare)
    if number is not None and not (text.isdecimal() and (len(text) > 6 or text.startswith("0"))):
        return {"type": "number", "examples": [number]}
    if text.startswith("+") and parse_phone(text):
        return {"type": "string", "examples": [text], "x-phone": True}
    if text.startswith(("www.", "http")) and parse_address(text):
        return {"type": "string", "format": "uri", "examples": [text]}
    return {"type": "string", "examples": [text]}


def _record(title: str, properties: dict[str, Any]) -> dict[str, Any]:
    for part in properties.values():
        if part.pop("x-phone", False):
            part[OURS] = {**part.get(OURS, {}), "kind": "phone"}
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": title, "type": "object", "properties": properties}
