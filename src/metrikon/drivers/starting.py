"""A record type started from a sample, which then reads that sample: what it proposes and cannot read itself is mended, or left out."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from metrikon.core.documents.model import Document
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.records.starting import from_document
from metrikon.core.records.types import OURS, record_type
from metrikon.models.pattern.reader import read_record

NAME = "started"  # of the type while it is tried


def started(document: Document, title: str = "record") -> dict[str, Any]:
    """The JSON Schema of a record type for documents like this one, each field of which the pattern reader finds in it."""
    schema = from_document(document, title)
    unread = _unread(schema, document) if schema["properties"] else set()
    if not unread:
        return schema
    mended = _with(schema, {name: _as_text(schema["properties"][name]) for name in unread})
    still = _unread(mended, document)
    return {**mended, "properties": {name: part for name, part in mended["properties"].items() if name not in still}}


def _unread(schema: Mapping[str, Any], document: Document) -> set[str]:
    """The fields, lists aside, of which nothing is found."""
    found = read_record(record_type(dict(schema), NAME), Index(document)).record
    return {name for name, part in schema["properties"].items() if part["type"] != "array" and found.get(name) is None}


def _with(schema: Mapping[str, Any], fields: Mapping[str, Any]) -> dict[str, Any]:
    return {**schema, "properties": {name: fields.get(name, part) for name, part in schema["properties"].items()}}


def _as_text(part: Mapping[str, Any]) -> dict[str, Any]:
    """A field as plain text behind its label."""
    examples = {"examples": [str(each) for each in part["examples"]]} if "examples" in part else {}
    return {"title": part["title"], "type": "string", **examples, OURS: {"labels": part[OURS]["labels"]}}
