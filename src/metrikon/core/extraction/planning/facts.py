"""Facts first: what a file says of itself for programs comes before what a model read in its print.

A fact belongs to a field by its business term (`terms` of the field, EN 16931) or because it bears
one of the field's labels. Facts of e-invoices and of form fields are taken; what pages say of
themselves for search engines is not: it may differ from the page in good faith.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from metrikon.core.documents.model import Fact, words_box
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.parsing.coerce import Coercion
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding
from metrikon.core.records.meaning import label_fit, meaning
from metrikon.core.records.pointers import get
from metrikon.core.records.types import Field, RecordType
from metrikon.core.values.text import fold

INVOICES = ("ubl", "cii")
SOURCES = (*INVOICES, "form field")


@dataclass(frozen=True)
class Known:
    """A value that a fact gives."""

    field: Field
    value: Any
    fact: Fact


@dataclass(frozen=True)
class FactRows:
    """The rows of a list as facts give them, with the fact behind each value by pointer."""

    rows: list[dict[str, Any]]
    facts: Mapping[str, Fact]


def complete(index: Index) -> bool:
    """Whether the file's data is the whole document: what an e-invoice does not say in it is not said at all."""
    return any(fact.source in INVOICES for fact in index.document.facts)


def known(kind: RecordType, index: Index, coercion: Coercion, guess: bool = False) -> list[Known]:
    """The header fields of a record type that the document's facts answer, each fitted to its type.

    A fact that is paired by what its name means alone answers only where nobody can be asked (`guess`): a wrong pairing is worse than none.
    """
    facts = [fact for fact in index.document.facts if fact.source in SOURCES and not fact.row]
    if not facts:
        return []
    by_term = {fact.term: fact for fact in reversed(facts) if fact.term}
    by_name = {fold(fact.name): fact for fact in reversed(facts)}
    found = []
    for field in kind.header:
        if field.shape.count("/") != 1:
            continue
        names = (fold(name) for name in (field.title, field.worded, *field.labels))
        fact = next((by_term[term] for term in field.ours.get("terms", ()) if term in by_term), None)
        fact = fact or next((by_name[name] for name in names if name in by_name), None)
        if fact is None and guess and not (field.ours.get("terms") or field.ours.get("labels")):
            fact = _meant(field, facts)
        value = coercion.leaf(field, fact.value) if fact else None
        if fact and value is not None:
            found.append(Known(field, value, fact))
    return found


LEAST_FIT = 0.72  # of a fact's name and what a field means


def _meant(field: Field, facts: list[Fact]) -> Fact | None:
    """The fact of an e-invoice whose name fits what a field means; of seller and buyer the one that it names, the seller where it names none."""
    roles = {concept for concept, _ in meaning(field)}
    side = "Buyer" if "receiver" in roles and "sender" not in roles else "Seller"
    best: tuple[float, Fact] | None = None
    for fact in facts:
        party, _, rest = fact.name.partition(" ")
        if fact.source not in INVOICES or (party in ("Seller", "Buyer") and rest and party != side):
            continue
        fit = label_fit(field, rest if party in ("Seller", "Buyer") and rest else fact.name)
        if fit >= LEAST_FIT and (best is None or fit > best[0]):
            best = (fit, fact)
    return best[1] if best else None


def known_rows(kind: RecordType, index: Index, coercion: Coercion, guess: bool = False) -> dict[str, FactRows]:
    """The rows that facts give, for each list whose required fields they answer in every row; `guess` as in `known`."""
    by_row: dict[int, dict[str, Fact]] = {}
    for fact in index.document.facts:
        if fact.row and fact.term and fact.source in INVOICES:
            by_row.setdefault(fact.row, {})[fact.term] = fact
    found: dict[str, FactRows] = {}
    for pointer, fields in kind.lists.items() if by_row else ():
        rows: list[dict[str, Any]] = []
        behind: dict[str, Fact] = {}
        for number in sorted(by_row):
            row: dict[str, Any] = {}
            for field in fields:
                said = next((by_row[number][term] for term in field.ours.get("terms", ()) if term in by_row[number]), None)
                if said is None and guess and not (field.ours.get("terms") or field.ours.get("labels")):
                    said = _meant_in_row(field, by_row[number].values())
                value = coercion.leaf(field, said.value) if said else None
                if said and value is not None:
                    row[field.name] = value
                    behind[f"{pointer}/{len(rows)}/{field.name}"] = said
            rows.append(row)
        if behind and all(field.name in row for row in rows for field in fields if field.required):
            found[pointer] = FactRows(rows, behind)
    return found


def _meant_in_row(field: Field, facts: Iterable[Fact]) -> Fact | None:
    """The fact of a line whose name fits what a field means best."""
    scored = [(label_fit(field, fact.name.split(" (")[0]), fact) for fact in facts]
    best = max(scored, key=lambda pair: pair[0], default=None)
    return best[1] if best is not None and best[0] >= LEAST_FIT else None


def taken(kind: RecordType, record: Mapping[str, Any], facts: list[Known], changes: list[str]) -> dict[str, Any]:
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


def fact_evidence(fact: Fact, index: Index) -> Evidence:
    """Where a fact stands: on its page when it is shown there, else in the file's own data."""
    if fact.page in index.pages and fact.words:
        page = index.pages[fact.page]
        return Evidence("printed", fact.page, words_box(page, fact.words), fact.value, 1.0)
    return Evidence("fact", 0, None, f"{fact.value} ({fact.source} {fact.path})"[:300], 1.0)


def contradicted(facts: list[Known], before: Mapping[str, Any], evidence: Mapping[str, Evidence]) -> list[Finding]:
    """Print that says something else than the file's own data: a person must look."""
    found = []
    for each in facts:
        printed, where = before.get(each.field.name), evidence.get(each.field.shape)
        if printed in (None, each.value) or where is None or not where.found or each.fact.words:
            continue
        if fold(str(printed)) == fold(str(each.value)):
            continue
        message = f"{each.field.title}: the file's own data says {each.value}, but {printed} is printed on page {where.page}."
        found.append(Finding("facts differ", "stop", message, (each.field.shape,), {"data": str(each.value), "printed": str(printed)}))
    return found
