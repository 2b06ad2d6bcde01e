"""A record with a person's values: fitted, grounded and checked anew."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.parsing.coerce import Coercion
from metrikon.core.extraction.settle import Reading, checked_again
from metrikon.core.records import evidence, findings
from metrikon.core.records.checks import MAKER, record_checks
from metrikon.core.records.findings import Finding
from metrikon.core.records.lists import filled
from metrikon.core.records.pointers import leaves
from metrikon.core.records.rules import MADE_ANEW, repeated, ruled
from metrikon.core.records.typed import as_typed
from metrikon.core.records.types import RecordType
from metrikon.engine.workshop import EngineWorkshop
from metrikon.store import records
from metrikon.store.database import Database


def reread(
    database: Database, workshop: EngineWorkshop, record: Mapping[str, Any], values: Mapping[str, Any], reader: str | None = None
) -> tuple[Reading, RecordType]:
    """The record with a person's values: fitted to its type, grounded and checked anew, with lists and other records.

    What the first reading noted stays, but for values that the person has set since. `reader`: the decimal mark that the person writes, where it is known.
    Raises `BadTyped`.
    """
    kind, _ = workshop.catalog.record_type(record["record_type"], record["type_version"])
    index = Index(workshop.read_document(record["document"]))
    fitted = Coercion(kind, index).record(as_typed(kind, values, record["values"], index.mark, reader))
    before = dict(leaves(record["as_read"]))
    by_person = {pointer for pointer, value in leaves(fitted) if before.get(pointer) != value}
    before_them = evidence.from_json(record["evidence"])
    fitted, known = filled(kind, fitted, workshop.known_list, by_person, before_them)
    reading = checked_again(kind, fitted, index, before_them, by_person, known)
    with database.reading() as connection:
        repeats = repeated(kind, fitted, record["item_id"], lambda key: records.holder(connection, kind.name, key))
    found = [*repeats, *ruled(kind, fitted, workshop.known_list)]
    now = dict(leaves(fitted))
    changed = by_person | {pointer for pointer, value in before.items() if value is not None and now.get(pointer) is None}
    noted = [each for each in findings.from_json(record["findings"]) if _stays(each) and not changed & set(each.fields)]
    return replace(reading, findings=sorted([*found, *reading.findings, *noted], key=lambda each: each.level != "stop")), kind


def _stays(finding: Finding) -> bool:
    """Whether a finding is none of those that are made anew: only its maker takes it back. Those of earlier versions are told by their names."""
    if finding.maker:
        return finding.maker != MAKER and finding.check not in MADE_ANEW
    return finding.check not in {name for check in record_checks() for name in check.names} | set(MADE_ANEW)
