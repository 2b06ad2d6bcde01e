"""Facts first: what a file says of itself for programs comes before what a model read in its print.

A fact belongs to a field by its business term (`terms` of the field, EN 16931) or because it bears
one of the field's labels. Facts of e-invoices and of form fields are taken; what pages say of
themselves for search engines is not: it may differ from the page in good faith.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from metrikon.core.documents.model import Fact, words_box
from metrikon.core.extraction.coerce import Coercion
from metrikon.core.extraction.index import Index
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import get
from metrikon.core.records.types import Field, RecordType
from metrikon.core.values.text import fold

SOURCES = ("ubl", "cii", "form field")


@dataclass(frozen=True)
class Known:
    """A value that a fact gives."""

    field: Field
    value: Any
    fact: Fact


def known(kind: RecordType, index: Index, coercion: Coercion) -> list[Known]:
    """The header fields of a record type that the document's facts answer, each fitted to its type."""
    facts = [fact for fact in index.document.facts if fact.source in SOURCES]
    if not facts:
        return []
    by_term = {fact.term: fact for fact in reversed(facts) if fact.term}
    by_name = {fold(fact.name): fact for fact in reversed(facts)}
    found = []
    for field in kind.header:
        if field.shape.count("/") != 1:
            continue
        names = (fold(name) for name in (field.title, field.name.replace("_", " "), *field.labels))
        fact = next((by_term[term] for term in field.ours.get("terms", ()) if term in by_term), None)
        fact = fact or next((by_name[name] for name in names if name in by_name), None)
        value = coercion.leaf(field, fact.value) if fact else None
        if fact and value is not None:
            found.append(Known(field, value, fact))
    return found


def taken(kind: RecordType, record: dict[str, Any], facts: list[Known], changes: list[str]) -> dict[str, Any]:
    """The record with the values of facts in the place of others; what was changed is told."""
    made = dict(record)
    for each in facts:
        before = get(record, each.field.shape)
        if before != each.value and before is not None:
            changes.append(
                f"{each.field.shape}: {str(before)[:60]!r} gave way to {str(each.value)[:60]!r}, which the file says of itself ({each.fact.path})."
            )
        made[each.field.name] = each.value
    return {name: made[name] for name in kind.schema["properties"] if name in made}


def fact_evidence(each: Known, index: Index) -> Evidence:
    """Where a fact stands: on its page when it is shown there, else in the file's own data."""
    if each.fact.page in index.pages and each.fact.words:
        page = index.pages[each.fact.page]
        return Evidence("printed", each.fact.page, words_box(page, each.fact.words), each.fact.value, 1.0)
    return Evidence("fact", 0, None, f"{each.fact.value} ({each.fact.source} {each.fact.path})"[:300], 1.0)


def contradicted(facts: list[Known], before: dict[str, Any], evidence: dict[str, Evidence]) -> list[Finding]:
    """Print that says something else than the file's own data: a person must look."""
    found = []
    for each in facts:
        printed, where = before.get(each.field.name), evidence.get(each.field.shape)
        if printed in (None, each.value) or where is None or not where.found or each.fact.words:
            continue
        message = f"{each.field.title}: the file's own data says {each.value}, but {printed} is printed on page {where.page}."
        found.append(Finding("facts differ", "stop", message, (each.field.shape,), {"data": str(each.value), "printed": str(printed)}))
    return found
