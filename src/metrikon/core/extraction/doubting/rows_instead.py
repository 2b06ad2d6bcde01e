"""Rows of a model that do not belong together give way to those that were read without it, and the record stops.

A small model mixes up what stands in columns side by side. Where its rows hold values that stand elsewhere, and those of the other
reading hold none, the latter are the better start for a person who looks.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from metrikon.core.extraction.deciding.mending import Assessed
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.parsing.readings import Draft
from metrikon.core.extraction.parsing.sections import list_concept
from metrikon.core.extraction.planning.besides import Besides
from metrikon.core.extraction.planning.plan import Plan
from metrikon.core.records.findings import Finding
from metrikon.core.records.meaning import concept_of
from metrikon.core.records.types import RecordType, resolved

TROUBLE = ("same words", "of another row", "of another column", "unsupported", "product", "type")
LEAST, SHARE = 2, 0.15  # findings of a list from which it is doubted, and of its values
MIXED = 6  # findings that a list counts for in which a model mixed up what stands under several headings
ENOUGH = 0.4  # of as many rows as a model gave


def rows_instead(
    kind: RecordType, base: Assessed, planned: Plan, made: Draft, other: Besides, index: Index, assess: Callable[[dict[str, Any]], Assessed]
) -> Assessed:
    """The reading, with lists of the other reading where those of the model are in trouble and its own are not."""
    for pointer in _texts_elsewhere(kind, base, other, index):
        name = pointer[1:]
        made.changes.append(f"{pointer}: what the model listed gave way to what stands under its heading.")
        message = f"{name.replace('_', ' ').capitalize()}: most of what the model listed stands elsewhere; what stands under the heading was taken. Compare it."
        told = len(base.record[name])
        base = assess({**base.record, name: other.record[name]})
        base.findings.append(Finding("rows differ", "stop", message, (pointer,), {"given": str(told), "instead": str(len(other.record[name]))}))
    for pointer in kind.lists:
        name = pointer[1:]
        theirs, own = base.record.get(name), other.record.get(name)
        if pointer.count("/") != 1 or not (isinstance(theirs, list) and isinstance(own, list)) or not own or pointer in planned.certain:
            continue
        if not _well_read(kind, pointer) or any("labels" in each.ours for each in kind.lists[pointer]) or len(own) < ENOUGH * len(theirs):
            continue
        before = _trouble(base, pointer) + MIXED * (pointer in made.mixed)
        if before < max(LEAST, SHARE * _values(theirs)) or (len(own) < LEAST and 2 * before < _values(theirs)):
            continue
        kept = dict(made.places), set(made.cells)
        made.places.update({at: place for at, place in other.places.items() if at.startswith(f"{pointer}/")})
        tried = assess({**base.record, name: own})
        after = _trouble(tried, pointer)
        if after * _values(theirs) * 3 > before * _values(own):
            made.places, made.cells = kept
            continue
        message = f"{name.replace('_', ' ').capitalize()}: {before} values of the model stand elsewhere; the {len(own)} rows that were read without it stand in their place. Compare them."
        made.changes.append(f"{pointer}: the rows of the model gave way to those that were read without it.")
        tried.findings.append(Finding("rows differ", "stop", message, (pointer,), {"given": str(len(theirs)), "instead": str(len(own))}))
        base = tried
    return base


def _texts_elsewhere(kind: RecordType, base: Assessed, other: Besides, index: Index) -> list[str]:
    """Lists of texts of which most that a model gave stands outside the lines on which the other reading found its own."""
    found = []
    for shape in (each.shape for each in kind.fields if each.shape.count("/") == 2 and each.shape.endswith("/*") and each.copied):
        pointer = shape[:-2]
        own, theirs = other.record.get(pointer[1:]), base.record.get(pointer[1:])
        if not (isinstance(own, list) and isinstance(theirs, list)) or len(own) < LEAST or len(theirs) < LEAST:
            continue
        spots = [other.places.get(f"{pointer}/{number}") for number in range(len(own))]
        lines = {(spot.page, index.pages[spot.page].line_of[spot.words[0]]) for spot in spots if spot and spot.words}
        inside = [
            any((place.page, index.pages[place.page].line_of[place.words[0]]) in lines for place in index.find_text(str(text))) for text in theirs
        ]
        if lines and 2 * sum(inside) < len(inside):
            found.append(pointer)
    return found


def _well_read(kind: RecordType, pointer: str) -> bool:
    """Whether lists of a sort are read well without a model: rows with figures, posts and schools under their headings."""
    fields = kind.lists[pointer]
    about = str(resolved(kind.schema, kind.schema["properties"][pointer[1:]]).get("description") or "")
    concept, own = list_concept(pointer[1:], fields, about), {concept_of(each) for each in fields}
    posts = concept == "work" and sum(each.kind in ("month", "date") for each in fields) > 1
    schools = concept == "education" and bool(own & {"degree", "school"})
    return sum(each.kind == "amount" for each in fields) > 1 or posts or schools


def _trouble(now: Assessed, pointer: str) -> int:
    """How many values of a list a finding says to be elsewhere, or nowhere."""
    told = {at for each in now.findings if each.level == "stop" and each.check in TROUBLE for at in each.fields if at.startswith(f"{pointer}/")}
    return len(told)


def _values(rows: list[Any]) -> int:
    return max(1, sum(len(row) if isinstance(row, Mapping) else 1 for row in rows))
